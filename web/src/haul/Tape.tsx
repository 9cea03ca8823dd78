// The tape: the route as a strip of steps with what each one changed in the last run.
import { ChevronLeft, ChevronRight, Play, Plus, SlidersHorizontal, Trash2 } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import type { Haul, StepData, StepKind, StepRecord } from "../api/client";
import { count } from "../shared/format";
import { typing } from "../shared/Shortcuts";
import { StepEditor } from "./StepEditor";

type Props = {
  haul: Haul;
  kinds: StepKind[];
  busy: boolean;
  onRoute: (steps: StepData[]) => void;
  onRun: () => void;
};

/** The figure that says most: fewer draw calls, fewer meshes, or simply what was counted. */
export function effect(record: StepRecord | undefined): string {
  if (!record) return "";
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

export function Tape({ haul, kinds, busy, onRoute, onRun }: Props) {
  const [open, setOpen] = useState<number | null>(null);
  const steps = haul.route.steps as StepData[];
  const title = (kind: string) => kinds.find((k) => k.kind === kind)?.title ?? kind;
  const strip = useRef<HTMLOListElement>(null);
  // records belong to enabled steps in order
  const records = new Map<number, StepRecord>();
  if (haul.run && !haul.run.stale) {
    let r = 0;
    steps.forEach((s, i) => {
      const record = haul.run?.records[r];
      if (s.enabled !== false && record) {
        records.set(i, record);
        r++;
      }
    });
  }
  const move = (i: number, by: number) => {
    const next = [...steps];
    const [one] = next.splice(i, 1);
    if (one) next.splice(i + by, 0, one);
    onRoute(next);
  };
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      if (e.key === "r" && !typing(e.target) && !e.ctrlKey && !e.metaKey && !busy && haul.source) onRun();
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [busy, haul.source, onRun]);
  const chosen = open !== null ? steps[open] : undefined;
  const kind = kinds.find((k) => k.kind === chosen?.kind);
  return (
    <section aria-label="Tape" className="flex h-[104px] shrink-0 items-stretch border-t rule bg-base-200">
      <div className="flex w-36 shrink-0 flex-col justify-center gap-1.5 border-r rule px-3">
        <button
          type="button"
          className="btn btn-primary btn-sm"
          disabled={busy || !haul.source || !steps.length}
          onClick={onRun}
        >
          <Play size={14} /> Run route
        </button>
        <span className="text-center text-xs opacity-80">
          {!haul.run
            ? "not run yet"
            : haul.run.stale
              ? "changed since the run"
              : `ran in ${haul.run.seconds.toFixed(1)} s`}
        </span>
      </div>
      <ol
        ref={strip}
        className="flex min-w-0 grow items-center overflow-x-auto px-2"
        tabIndex={0}
        aria-label="Steps of the route"
      >
        {steps.map((step, i) => {
          const record = records.get(i);
          const on = step.enabled !== false;
          const problem = record?.changes.some((c) => c.problem);
          return (
            // biome-ignore lint/suspicious/noArrayIndexKey: steps have no identity but their place
            <li key={i} className="flex shrink-0 items-center" data-step={step.kind}>
              {i > 0 && (
                <span aria-hidden className="h-0 w-3 border-t-2 border-dotted border-base-content/40" />
              )}
              <div
                className={`group flex h-[84px] w-40 flex-col rounded-box border bg-base-100 px-2 py-1 ${
                  on ? "rule" : "border-dashed opacity-80"
                } ${problem ? "border-error" : ""}`}
              >
                <div className="flex items-center gap-1.5">
                  <input
                    type="checkbox"
                    className="checkbox checkbox-xs"
                    checked={on}
                    disabled={busy}
                    aria-label={`${title(step.kind)} on`}
                    onChange={() => onRoute(steps.map((s, k) => (k === i ? { ...s, enabled: !on } : s)))}
                  />
                  <span
                    className={`truncate font-semibold ${on ? "" : "line-through"}`}
                    title={title(step.kind)}
                  >
                    {title(step.kind)}
                  </span>
                </div>
                <p
                  className="line-clamp-2 text-xs leading-tight"
                  title={record?.changes.map((c) => c.text).join("\n")}
                >
                  {problem && <span className="text-error">✗ </span>}
                  {on ? (record ? effect(record) : "not run yet") : "switched off"}
                </p>
                <span className="grow" />
                <div className="flex items-center gap-0.5">
                  <button
                    type="button"
                    className="btn btn-ghost btn-xs px-1"
                    disabled={busy || i === 0}
                    aria-label={`${title(step.kind)} earlier`}
                    onClick={() => move(i, -1)}
                  >
                    <ChevronLeft size={13} />
                  </button>
                  <button
                    type="button"
                    className="btn btn-ghost btn-xs px-1"
                    disabled={busy || i === steps.length - 1}
                    aria-label={`${title(step.kind)} later`}
                    onClick={() => move(i, 1)}
                  >
                    <ChevronRight size={13} />
                  </button>
                  <span className="grow" />
                  <button
                    type="button"
                    className="btn btn-ghost btn-xs px-1"
                    aria-label={`Numbers of ${title(step.kind)}`}
                    title="Numbers and changes"
                    onClick={() => setOpen(i)}
                  >
                    <SlidersHorizontal size={13} />
                  </button>
                  <button
                    type="button"
                    className="btn btn-ghost btn-xs px-1"
                    disabled={busy}
                    aria-label={`Take ${title(step.kind)} off the tape`}
                    title="Take off the tape"
                    onClick={() => onRoute(steps.filter((_, k) => k !== i))}
                  >
                    <Trash2 size={13} />
                  </button>
                </div>
              </div>
            </li>
          );
        })}
        <li className="flex shrink-0 items-center">
          {steps.length > 0 && (
            <span aria-hidden className="h-0 w-3 border-t-2 border-dotted border-base-content/40" />
          )}
          <label className="flex items-center gap-1">
            <Plus size={14} aria-hidden />
            <select
              className="select select-sm w-36"
              aria-label="Add a step"
              value=""
              disabled={busy}
              onChange={(e) => {
                const chosenKind = kinds.find((k) => k.kind === e.target.value);
                if (chosenKind) onRoute([...steps, chosenKind.defaults as StepData]);
              }}
            >
              <option value="" disabled>
                Add a step
              </option>
              {kinds.map((k) => (
                <option key={k.kind} value={k.kind}>
                  {k.title}
                </option>
              ))}
            </select>
          </label>
        </li>
      </ol>
      {chosen && kind && open !== null && (
        <StepEditor
          sets={(haul.route.sets ?? []).map((s) => s.name)}
          key={open}
          kind={kind}
          step={chosen}
          record={records.get(open)}
          busy={busy}
          onClose={() => setOpen(null)}
          onSave={(next) => {
            onRoute(steps.map((s, k) => (k === open ? next : s)));
            setOpen(null);
          }}
        />
      )}
    </section>
  );
}
