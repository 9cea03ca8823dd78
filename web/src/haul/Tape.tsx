// The tape: the route as a strip of steps with what each one changed in the last run.
import { ChevronDown, ChevronRight, Play, Plus } from "lucide-react";
import { useState } from "react";
import type { Haul, StepData, StepKind, StepRecord } from "../api/client";
import { useStepKinds } from "../api/hooks";
import { plural } from "../shared/format";
import { useShortcut } from "../shared/keys";
import { AddStep } from "./AddStep";
import { withMend } from "./mend";
import { ProposeRoute } from "./ProposeRoute";
import { StepCard } from "./StepCard";
import { StepEditor } from "./StepEditor";

type Props = {
  haul: Haul;
  /** Whether the view shows what the route made. */
  showsResult: boolean;
  kinds: StepKind[];
  busy: boolean;
  /** done hears once it is saved, or why it is not. */
  onRoute: (steps: StepData[], done?: (why?: string) => void) => void;
  onRun: () => void;
};

export function Tape({ haul, showsResult, kinds, busy, onRoute, onRun }: Props) {
  const asked = useStepKinds();
  const [open, setOpen] = useState<number | null>(null);
  const steps = haul.route.steps ?? [];
  const title = (kind: string) => kinds.find((k) => k.kind === kind)?.title ?? kind;
  const [adding, setAdding] = useState(false);
  const [proposing, setProposing] = useState(false);
  const [closed, setClosed] = useState<Set<string>>(new Set());
  const toggle = (phase: string) =>
    setClosed((was) => {
      const next = new Set(was);
      if (!next.delete(phase)) next.add(phase);
      return next;
    });
  // runs of steps of one phase, in the order of the route, which is the artist's
  const groups: { phase: string; from: number; steps: number[] }[] = [];
  // before the kinds are known nobody can say what a step is called and where it belongs
  (kinds.length ? steps : []).forEach((s, i) => {
    const phase = kinds.find((k) => k.kind === s.kind)?.phase ?? "Others";
    const last = groups.at(-1);
    if (last?.phase === phase) last.steps.push(i);
    else groups.push({ phase, from: i, steps: [i] });
  });
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
  useShortcut("run", onRun, !busy && !!haul.source);
  const chosen = open !== null ? steps[open] : undefined;
  const kind = kinds.find((k) => k.kind === chosen?.kind);
  return (
    <section aria-label="Tape" className="flex h-[134px] shrink-0 items-stretch border-t rule bg-base-200">
      <div className="flex w-36 shrink-0 flex-col justify-center gap-1.5 border-r rule px-3">
        <button
          type="button"
          className="btn btn-primary btn-sm"
          disabled={busy || !haul.source || !steps.length}
          onClick={onRun}
        >
          <Play size={14} /> Run route
        </button>
        <button
          type="button"
          className="btn btn-sm whitespace-nowrap px-1"
          disabled={busy || !haul.source}
          onClick={() => setProposing(true)}
        >
          Propose a route
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
        className="flex min-w-0 grow items-stretch overflow-x-auto px-2"
        tabIndex={0}
        aria-label="Steps of the route"
      >
        {!kinds.length && steps.length > 0 && (
          <li className="flex items-center gap-3 self-center px-2 text-sm">
            {asked.error ? (
              <>
                <span role="alert" className="text-error">
                  The steps cannot be shown: {asked.error.message}
                </span>
                <button
                  type="button"
                  className="btn btn-sm"
                  disabled={asked.isFetching}
                  onClick={() => asked.refetch()}
                >
                  Try again
                </button>
              </>
            ) : (
              <span role="status" className="opacity-80">
                Loading the steps…
              </span>
            )}
          </li>
        )}
        {groups.map((group) => {
          const shut = closed.has(group.phase);
          return (
            <li
              key={`${group.phase} ${group.from}`}
              className="flex shrink-0 flex-col justify-center gap-0.5"
            >
              <button
                type="button"
                className="flex items-center gap-1 self-start rounded-field px-1 text-xs font-semibold opacity-80 hover:bg-base-300"
                aria-expanded={!shut}
                onClick={() => toggle(group.phase)}
              >
                {shut ? <ChevronRight size={12} aria-hidden /> : <ChevronDown size={12} aria-hidden />}
                {group.phase}
              </button>
              {shut ? (
                <div className="mr-3 flex h-[100px] w-28 flex-col justify-center rounded-box border border-dashed rule px-2 text-xs">
                  <b className="font-semibold">{plural(group.steps.length, "step")}</b>
                  <span>{group.steps.filter((i) => steps[i]?.enabled !== false).length} on</span>
                </div>
              ) : (
                <ol className="flex items-center" aria-label={group.phase}>
                  {group.steps.map((i) => {
                    const step = steps[i];
                    if (!step) return null;
                    return (
                      <li key={i} className="flex shrink-0 items-center" data-step={step.kind}>
                        <StepCard
                          step={step}
                          title={title(step.kind)}
                          record={records.get(i)}
                          busy={busy}
                          first={i === 0}
                          last={i === steps.length - 1}
                          onToggle={() =>
                            onRoute(
                              steps.map((s, k) => (k === i ? { ...s, enabled: s.enabled === false } : s)),
                            )
                          }
                          onMove={(by) => move(i, by)}
                          onOpen={() => setOpen(i)}
                          onRemove={() => onRoute(steps.filter((_, k) => k !== i))}
                        />
                        <span
                          aria-hidden
                          className="h-0 w-3 border-t-2 border-dotted border-base-content/40"
                        />
                      </li>
                    );
                  })}
                </ol>
              )}
            </li>
          );
        })}
        <li className="flex shrink-0 items-center">
          <button type="button" className="btn btn-sm" disabled={busy} onClick={() => setAdding(true)}>
            <Plus size={14} aria-hidden /> Add a step
          </button>
        </li>
      </ol>
      {adding && (
        <AddStep
          kinds={kinds}
          present={steps.map((s) => s.kind)}
          onAdd={(step) => onRoute(withMend(steps, { step, given: [] }, kinds))}
          onClose={() => setAdding(false)}
        />
      )}
      {proposing && (
        <ProposeRoute haul={haul} kinds={kinds} onRoute={onRoute} onClose={() => setProposing(false)} />
      )}
      {chosen && kind && open !== null && (
        <StepEditor
          sets={(haul.route.sets ?? []).map((s) => s.name)}
          key={open}
          kind={kind}
          step={chosen}
          record={records.get(open)}
          axes={showsResult ? (haul.result?.axes ?? null) : null}
          busy={busy}
          onClose={() => setOpen(null)}
          onSave={(next, failed) => {
            const done = (why?: string) => (why ? failed(why) : setOpen(null));
            onRoute(
              steps.map((s, k) => (k === open ? next : s)),
              done,
            );
          }}
        />
      )}
    </section>
  );
}
