// The whole route that the survey proposes, step by step with its reasons, for review before it goes on the tape.
import { useEffect, useRef, useState } from "react";
import type { Haul, Proposed, StepData, StepKind } from "../api/client";
import { useProposal } from "../api/hooks";
import { plural } from "../shared/format";
import { isOnTape, withMend } from "./mend";

type Props = { haul: Haul; kinds: StepKind[]; onRoute: (steps: StepData[]) => void; onClose: () => void };

export function ProposeRoute({ haul, kinds, onRoute, onClose }: Props) {
  const dialog = useRef<HTMLDialogElement>(null);
  const query = useProposal(haul.id, haul.source?.id, haul.destination.name);
  // what the person decided otherwise than proposed, by place in the list
  const [other, setOther] = useState<Set<number>>(new Set());
  useEffect(() => dialog.current?.showModal(), []);
  const steps = haul.route.steps ?? [];
  const there = (p: Proposed) => isOnTape(steps, p, kinds);
  const wanted = (p: Proposed, i: number) => !there(p) && p.guess === other.has(i);
  const chosen = (query.data ?? []).filter(wanted);
  const toggle = (i: number) =>
    setOther((was) => {
      const next = new Set(was);
      if (!next.delete(i)) next.add(i);
      return next;
    });
  const put = () => {
    onRoute(chosen.reduce((route, p) => withMend(route, p, kinds), steps));
    dialog.current?.close();
  };
  return (
    <dialog ref={dialog} className="modal" onClose={onClose} aria-label="Proposed route">
      <div className="modal-box flex max-h-[80vh] w-[44rem] max-w-[44rem] flex-col gap-3">
        <h2 className="text-base font-semibold">Proposed route</h2>
        <p className="text-sm opacity-80">
          What the survey of the source asks for on the way to {haul.destination.title}. Unsure ones are left
          out until you choose them.
        </p>
        {query.error && (
          <p role="alert" className="text-error">
            {query.error.message}
          </p>
        )}
        {query.isPending && <p role="status">Reading the survey …</p>}
        <ol className="flex flex-col overflow-y-auto" aria-label="Proposed steps">
          {(query.data ?? []).map((p, i) => (
            <li key={`${p.step.kind} ${p.reasons[0]}`} className="border-b rule py-2 last:border-0">
              <label className="flex items-start gap-2">
                <input
                  type="checkbox"
                  className="checkbox checkbox-sm mt-0.5"
                  checked={there(p) || wanted(p, i)}
                  disabled={there(p)}
                  onChange={() => toggle(i)}
                />
                <span className="min-w-0">
                  <b className="font-semibold">{p.title}</b>
                  <span className="ml-2 text-xs opacity-80">
                    {p.phase}
                    {there(p) && ", on the tape already"}
                    {p.guess && ", unsure"}
                  </span>
                  {p.reasons.map((reason) => (
                    <span key={reason} className="block text-xs leading-snug">
                      {reason}
                    </span>
                  ))}
                </span>
              </label>
            </li>
          ))}
        </ol>
        <div className="flex justify-end gap-2">
          <button type="button" className="btn btn-sm" onClick={() => dialog.current?.close()}>
            Cancel
          </button>
          <button type="button" className="btn btn-primary btn-sm" disabled={!chosen.length} onClick={put}>
            {chosen.length ? `Put ${plural(chosen.length, "step")} on the tape` : "Nothing to add"}
          </button>
        </div>
      </div>
    </dialog>
  );
}
