// What the stations show above the ledger: facts of the source, changes, package, verdict.
import { Columns2, Download, PackageCheck, Telescope } from "lucide-react";
import { useState } from "react";
import {
  api,
  type Counts,
  type Haul,
  type Part,
  type StepData,
  type StepKind,
  type StepRecord,
} from "../api/client";
import { useFormats } from "../api/hooks";
import { bytes, count, metres, plural, small } from "../shared/format";
import { tell } from "../shared/messages";
import { Sentence } from "../shared/Sentence";
import { Bake } from "./Bake";
import { Cost } from "./Cost";
import { Islands } from "./Islands";
import { around, useView } from "./selection";
import { type Rows, useShown } from "./shown";
import { TexelBudget } from "./TexelBudget";

type Trace = { rows?: Rows; by: string; down?: boolean } | { arrival: string };

/** One figure. With a trace it is a button that shows the rows behind it, largest first. */
export function Fact({
  label,
  value,
  was,
  trace,
}: {
  label: string;
  value: string;
  was?: string | undefined;
  trace?: Trace;
}) {
  const { show, sort } = useShown();
  const open = () => {
    if (!trace) return;
    if ("arrival" in trace) sort("arrival", { by: trace.arrival, down: trace.arrival !== "rank" });
    else
      show({ rows: trace.rows ?? "parts", filter: null, sort: { by: trace.by, down: trace.down ?? true } });
  };
  const figure = (
    <>
      {was !== undefined && was !== value && <span className="font-normal opacity-80">{was} → </span>}
      {value}
    </>
  );
  return (
    <div className="min-w-0">
      <dt className="truncate text-xs opacity-80">{label}</dt>
      <dd className="truncate font-semibold">
        {trace ? (
          <button
            type="button"
            className="max-w-full truncate font-semibold underline decoration-base-content/30 decoration-dotted underline-offset-4 hover:decoration-base-content"
            title="Show what is behind this figure"
            onClick={open}
          >
            {figure}
          </button>
        ) : (
          figure
        )}
      </dd>
    </div>
  );
}

export function Facts({ now, was }: { now: Counts; was?: Counts | undefined }) {
  const f = (k: keyof Counts) => ({ value: count(now[k]), was: was ? count(was[k]) : undefined });
  const to = (rows: Rows, by: string, down = true) => ({ trace: { rows, by, down } });
  return (
    <dl className="grid grid-cols-4 gap-x-4 gap-y-2 px-3 py-2">
      <Fact label="Parts" {...f("parts")} {...to("parts", "node", false)} />
      <Fact label="Unique meshes" {...f("uniqueMeshes")} {...to("meshes", "instances")} />
      <Fact label="Triangles drawn" {...f("triangles")} {...to("parts", "triangles")} />
      <Fact label="Triangles stored" {...f("uniqueTriangles")} {...to("meshes", "triangles")} />
      <Fact label="Draw calls, separate" {...f("drawCalls")} {...to("meshes", "drawCalls")} />
      <Fact label="Draw calls, instanced" {...f("drawCallsInstanced")} {...to("meshes", "materials")} />
      <Fact
        label="Materials, textures"
        value={`${now.materials}, ${now.textures}`}
        {...to("materials", "triangles")}
      />
      <Fact label="Lights, cameras" value={`${now.lights}, ${now.cameras}`} />
      <Fact
        label="Mesh data"
        value={bytes(now.meshBytes)}
        was={was ? bytes(was.meshBytes) : undefined}
        {...to("meshes", "vertices")}
      />
      <Fact label="Texture data" value={bytes(now.textureBytes)} {...to("materials", "textures")} />
      <Fact label="Nodes" {...f("nodes")} {...to("tree", "name", false)} />
      <Fact label="Vertices stored" {...f("vertices")} {...to("meshes", "vertices")} />
    </dl>
  );
}

/** Parts that a step changed up to which they are marked beside each other. */
const MOST_MARKED = 500;

type AtMend = {
  haul: Haul;
  kinds: StepKind[];
  busy: boolean;
  onSteps: (steps: StepData[]) => void;
};

export function MendStation({ haul, ...rest }: AtMend) {
  const { stage, set, mark, look } = useView();
  const sceneId = haul.result?.id;
  const compare = (number: number, record: StepRecord) => {
    const on = stage !== number;
    set({ stage: on ? number : null });
    mark(null);
    const parts = [...new Set(record.changes.flatMap((c) => c.parts ?? []))].slice(0, MOST_MARKED);
    if (!on || !sceneId || !parts.length) return;
    // the view goes to what the step changed; without it, it stays where it is
    api.namedParts(sceneId, parts).then(
      ({ items }) => {
        if (!items.length) return;
        mark(items.map((p) => p.source));
        const end = (sign: number) => (p: Part) =>
          [p.x + (sign * p.sizeX) / 2, p.y + (sign * p.sizeY) / 2, p.z + (sign * p.sizeZ) / 2] as const;
        const along = (sign: number, pick: (...values: number[]) => number) =>
          ([0, 1, 2] as const).map((k) => pick(...items.map((p) => end(sign)(p)[k])));
        look(around({ min: along(-1, Math.min), max: along(1, Math.max) }));
      },
      (error: Error) => tell("error", error.message),
    );
  };
  if (!haul.run)
    return (
      <div>
        <p className="p-3">The route has not run yet. Put mends on the tape below and run it.</p>
        <Cost haul={haul} {...rest} />
      </div>
    );
  return (
    <div>
      {haul.run.stale && (
        <p className="border-b rule bg-primary/20 px-3 py-1.5">
          Route or destination changed since this run. Run again to see what that does.
        </p>
      )}
      <ol aria-label="What each step changed">
        {haul.run.records.map((r, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: records have no identity but their place
          <li key={i} className="flex gap-3 border-b rule px-3 py-1.5">
            <span className="w-44 shrink-0 font-semibold">{r.title}</span>
            <button
              type="button"
              className={`btn btn-xs btn-square order-last ml-auto shrink-0 ${stage === i + 1 ? "btn-secondary" : ""}`}
              aria-pressed={stage === i + 1}
              aria-label={`Before and after ${r.title}`}
              title="Before and after this step, side by side in the view"
              onClick={() => compare(i + 1, r)}
            >
              <Columns2 size={13} aria-hidden />
            </button>
            <span className="min-w-0">
              {r.changes.length === 0 && <span className="opacity-80">nothing had to be changed</span>}
              {r.changes.map((c) => (
                <span key={c.text} className={`block leading-snug ${c.problem ? "text-error" : ""}`}>
                  {c.problem ? "✗ " : ""}
                  <Sentence text={c.text} />
                </span>
              ))}
            </span>
          </li>
        ))}
      </ol>
      {haul.result && <Facts now={haul.result.counts} was={haul.source?.counts} />}
      <Cost key={haul.result?.id} haul={haul} {...rest} />
    </div>
  );
}

const lightRecord = (haul: Haul): StepRecord | undefined =>
  haul.run?.records.find((r) => r.kind === "lightmap_uvs");

type LightProps = {
  haul: Haul;
  kinds: StepKind[];
  busy: boolean;
  onAdd: () => void;
  onSteps: (steps: StepData[]) => void;
};

export function LightStation({ haul, onAdd, busy, kinds, onSteps }: LightProps) {
  const record = lightRecord(haul);
  const step = haul.route.steps?.find((s) => s.kind === "lightmap_uvs");
  return (
    <div className="flex flex-col gap-2 px-3 py-2">
      {step ? (
        <p>
          Baked light needs a UV set of its own (number {haul.destination.lightmapChannel}). On the tape:{" "}
          <b>{String(step.resolution)} texels</b> along an edge, islands at least{" "}
          <b>{String(step.paddingTexels)} texels</b> apart.
        </p>
      ) : (
        <p>
          Baked light needs a UV set of its own (number {haul.destination.lightmapChannel}); the tape has no
          step that makes it.{" "}
          <button type="button" className="btn btn-xs" onClick={onAdd} disabled={busy}>
            Put it on the tape
          </button>
        </p>
      )}
      {record ? (
        <ul className="list-disc pl-5">
          {record.changes.map((c) => (
            <li key={c.text} className={c.problem ? "text-error" : ""}>
              <Sentence text={c.text} />
            </li>
          ))}
          {!record.changes.length && <li>Every part had a good set already.</li>}
        </ul>
      ) : (
        <p className="opacity-80">Run the route to see what the unwrap gives.</p>
      )}
      <Bake key={`bake ${haul.result?.id}`} haul={haul} />
      <Islands haul={haul} />
      <TexelBudget key={(haul.result ?? haul.source)?.id} {...{ haul, kinds, busy, onSteps }} />
    </div>
  );
}

export function PackStation({
  haul,
  busy,
  onPack,
}: {
  haul: Haul;
  busy: boolean;
  onPack: (format: string) => void;
}) {
  const [format, setFormat] = useState(haul.package?.format ?? "glb");
  const formats = useFormats().data ?? [];
  return (
    <div className="flex flex-col gap-2 px-3 py-2">
      {!haul.run && <p>Run the route first; what it made is what is packed.</p>}
      {haul.run?.stale && (
        <p className="bg-primary/20 px-2 py-1">
          The last run is older than the tape; it is the run that is packed.
        </p>
      )}
      <div className="flex items-center gap-2">
        <select
          className="select select-sm w-96"
          value={format}
          aria-label="Format of the package"
          onChange={(e) => setFormat(e.target.value)}
        >
          {formats.map((f) => (
            <option key={f.name} value={f.name}>
              {f.title}
            </option>
          ))}
        </select>
        <button
          type="button"
          className="btn btn-primary btn-sm"
          disabled={busy || !haul.run}
          onClick={() => onPack(format)}
        >
          <PackageCheck size={14} /> Pack
        </button>
        {haul.package && (
          <a className="btn btn-secondary btn-sm" href={`/api/packages/${haul.package.id}/download`} download>
            <Download size={14} /> Download
          </a>
        )}
      </div>
      {haul.package && (
        <div className="grid grid-cols-2 gap-4">
          <table className="table table-xs self-start" aria-label="Files of the package">
            <tbody>
              {haul.package.files.map((f) => (
                <tr key={f.path}>
                  <td className="break-all pl-0">{f.path}</td>
                  <td className="whitespace-nowrap text-right">{bytes(f.bytes)}</td>
                </tr>
              ))}
            </tbody>
          </table>
          <div>
            {haul.package.behind.length > 0 && (
              <>
                <h2 className="font-semibold">Stayed behind or guessed</h2>
                <List items={haul.package.behind} />
              </>
            )}
            {haul.package.remarks.length > 0 && (
              <>
                <h2 className="font-semibold">Lost or put right while writing</h2>
                <List items={haul.package.remarks} />
              </>
            )}
            {!haul.package.behind.length && !haul.package.remarks.length && (
              <p>Everything travels, and nothing had to be put right while writing.</p>
            )}
          </div>
        </div>
      )}
    </div>
  );
}

function List({ items }: { items: string[] }) {
  return (
    <ul className="list-disc break-words pl-5">
      {items.slice(0, 12).map((t) => (
        <li key={t}>{t}</li>
      ))}
      {items.length > 12 && <li>and {items.length - 12} more, in the manifest</li>}
    </ul>
  );
}

export function ArriveStation({ haul, busy, onArrive }: { haul: Haul; busy: boolean; onArrive: () => void }) {
  const r = haul.arrival?.report;
  return (
    <div className="flex flex-col gap-2 px-3 py-2">
      <div className="flex items-center gap-3">
        <button
          type="button"
          className="btn btn-primary btn-sm"
          disabled={busy || !haul.package}
          onClick={onArrive}
        >
          <Telescope size={14} /> Read back and compare
        </button>
        {!haul.package && <span>Pack first; the package is what the receiver reads.</span>}
        {r && (
          <span
            className={`text-base font-semibold ${r.ok ? "text-success" : "text-error"}`}
            data-testid="verdict"
          >
            {r.ok ? "✓ Arrived as it left" : "✗ Not as it left"}
          </span>
        )}
      </div>
      {r && (
        <>
          <dl className="grid grid-cols-4 gap-x-4 gap-y-2">
            <Fact
              label="Parts compared"
              value={`${count(r.compared)}, ${r.lost.length} lost, ${r.faulty} wrong`}
              trace={{ arrival: "rank" }}
            />
            <Fact
              label={`Position, limit ${small(r.tolerances.positionMm, 2)} mm`}
              value={`${small(r.worst.positionMm, 4)} mm`}
              trace={{ arrival: "positionMm" }}
            />
            <Fact
              label="Size, limit × 1.0001"
              value={`× ${r.worst.sizeRatio.toFixed(6)}`}
              trace={{ arrival: "sizeRatio" }}
            />
            <Fact
              label="Rotation, limit 0.001°"
              value={`${small(r.worst.rotationDeg, 5)}°`}
              trace={{ arrival: "rotationDeg" }}
            />
            <Fact
              label="Surface, corner to corner"
              value={`${small(r.worst.surfaceMm, 4)} mm`}
              trace={{ arrival: "surfaceMm" }}
            />
            <Fact
              label={`Normals, limit ${r.tolerances.normalDeg}°`}
              value={`${small(r.worst.normalDeg, 4)}°`}
              trace={{ arrival: "normalDeg" }}
            />
            <Fact
              label="Pivots"
              trace={{ arrival: "pivotMm" }}
              value={
                r.worst.pivotMm >= 1000 ? metres(r.worst.pivotMm / 1000) : `${small(r.worst.pivotMm, 3)} mm`
              }
            />
            <Fact label="Unique meshes" value={count(r.sharingArrived)} was={count(r.sharingSource)} />
          </dl>
          {r.lost.length > 0 && (
            <p className="text-error">
              {plural(r.lost.length, "part")} lost: {r.lost.slice(0, 8).join(", ")}
              {r.lost.length > 8 ? " …" : ""}
            </p>
          )}
          {r.problems.length > 0 && (
            <div className="text-error" data-testid="problems">
              <List items={r.problems} />
            </div>
          )}
          {[...r.formatLosses, ...r.declared].length > 0 && (
            <List items={[...r.formatLosses, ...r.declared]} />
          )}
          {(r.unproven ?? []).length > 0 && (
            <p className="text-base-content/70">
              Not proven in this format: {(r.unproven ?? []).join(", ")}.
            </p>
          )}
        </>
      )}
    </div>
  );
}
