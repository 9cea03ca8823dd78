// For tests: tangents by the reference algorithm, as float32 to standard output. Input: corners of triangles, 8 float32 each.

import { readFileSync } from "node:fs";
import { generateTangents } from "mikktspace";

const bytes = readFileSync(0);
const all = new Float32Array(bytes.buffer, bytes.byteOffset, bytes.byteLength / 4);
const count = all.length / 8;
const [position, normal, texcoord] = [3, 3, 2].map((size) => new Float32Array(count * size));
for (let i = 0; i < count; i++) {
  position.set(all.subarray(8 * i, 8 * i + 3), 3 * i);
  normal.set(all.subarray(8 * i + 3, 8 * i + 6), 3 * i);
  texcoord.set(all.subarray(8 * i + 6, 8 * i + 8), 2 * i);
}
const out = generateTangents(position, normal, texcoord);
process.stdout.write(Buffer.from(out.buffer, out.byteOffset, out.byteLength));
