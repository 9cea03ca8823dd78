// One step on the tape: on or off, its name in full, what it changed, and what can be done with it.
import { ChevronLeft, ChevronRight, SlidersHorizontal, Trash2 } from "lucide-react";
import type { StepData, StepRecord } from "../api/client";
import { count } from "../shared/format";

type Props = {
  step: StepData;
  title: string;
  record: StepRecord | undefined;
  busy: boolean;
  first: boolean;
  last: boolean;
  onToggle: () => void;
  onMove: (by: number) => void;
  onOpen: () => void;
  onRemove: () => void;
};

export function StepCard({ step, title, record, busy, first, last, ...on }: Props) {
  const enabled = step.enabled !== false;
  const problem = record?.changes.some((c) => c.problem);
  return (
    <div
      className={`group flex h-[100px] w-40 flex-col rounded-box border bg-base-100 px-2 py-1 ${
        enabled ? "rule" : "border-dashed opacity-80"
      } ${problem ? "border-error" : ""}`}
    >
      <div className="flex items-start gap-1.5">
        <input
          type="checkbox"
          className="checkbox checkbox-xs mt-0.5"
          checked={enabled}
          disabled={busy}
          aria-label={`${title} on`}
          onChange={on.onToggle}
        />
        <span className={`text-sm font-semibold leading-tight ${enabled ? "" : "line-through"}`}>
          {title}
        </span>
      </div>
      <p className="line-clamp-2 text-xs leading-tight" title={record?.changes.map((c) => c.text).join("\n")}>
        {problem && <span className="text-error">✗ </span>}
        {enabled ? (record ? effect(record) : "not run yet") : "switched off"}
      </p>
      <span className="grow" />
      <div className="flex items-center gap-0.5">
        <button
          type="button"
          className="btn btn-ghost btn-xs px-1"
          disabled={busy || first}
          aria-label={`${title} earlier`}
          onClick={() => on.onMove(-1)}
        >
          <ChevronLeft size={13} />
        </button>
        <button
          type="button"
          className="btn btn-ghost btn-xs px-1"
          disabled={busy || last}
          aria-label={`${title} later`}
          onClick={() => on.onMove(1)}
        >
          <ChevronRight size={13} />
        </button>
        <span className="grow" />
        <button
          type="button"
          className="btn btn-ghost btn-xs px-1"
          aria-label={`Numbers of ${title}`}
          title="Numbers and changes"
          onClick={on.onOpen}
        >
          <SlidersHorizontal size={13} />
        </button>
        <button
          type="button"
          className="btn btn-ghost btn-xs px-1"
          disabled={busy}
          aria-label={`Take ${title} off the tape`}
          title="Take off the tape"
          onClick={on.onRemove}
        >
          <Trash2 size={13} />
        </button>
      </div>
    </div>
  );
}

/** What a step changed, in figures. */
function effect(record: StepRecord): string {
  const calls = record.after.drawCalls - record.before.drawCalls;
  const meshes = record.after.uniqueMeshes - record.before.uniqueMeshes;
  const nodes = record.after.nodes - record.before.nodes;
  const triangles = record.after.triangles - record.before.triangles;
  const out: string[] = [];
  const signed = (n: number) => `${n > 0 ? "+" : "−"}${count(Math.abs(n))}`;
  const one = (n: number, word: string, many: string) => `${signed(n)} ${Math.abs(n) === 1 ? word : many}`;
  if (calls) out.push(one(calls, "draw call", "draw calls"));
  if (nodes) out.push(one(nodes, "node", "nodes"));
  if (triangles) out.push(one(triangles, "triangle", "triangles"));
  if (meshes) out.push(one(meshes, "mesh", "meshes"));
  if (!out.length && record.changes[0]) out.push(record.changes[0].text);
  return out.join(", ") || "nothing to do";
}
