// Runs the standard's own validator over files; prints one JSON line per file.
import { readFile } from "node:fs/promises";
import { dirname, join } from "node:path";
import { validateBytes } from "gltf-validator";

for (const path of process.argv.slice(2)) {
  const report = await validateBytes(new Uint8Array(await readFile(path)), {
    uri: path,
    maxIssues: 50,
    externalResourceFunction: async (uri) =>
      new Uint8Array(await readFile(join(dirname(path), decodeURIComponent(uri)))),
  });
  const { numErrors, numWarnings, messages } = report.issues;
  const shown = messages.filter((m) => m.severity < 2).slice(0, 10);
  console.log(JSON.stringify({ path, errors: numErrors, warnings: numWarnings, messages: shown }));
}
