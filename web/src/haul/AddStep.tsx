// The list of all kinds of steps, searched by what they say of themselves and grouped by where they belong.
import { Plus } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import type { StepData, StepKind } from "../api/client";

type Props = { kinds: StepKind[]; present: string[]; onAdd: (step: StepData) => void; onClose: () => void };

export function AddStep({ kinds, present, onAdd, onClose }: Props) {
  const dialog = useRef<HTMLDialogElement>(null);
  const [search, setSearch] = useState("");
  useEffect(() => dialog.current?.showModal(), []);
  const wanted = search.trim().toLowerCase();
  const fitting = kinds.filter((k) => `${k.title} ${k.summary} ${k.phase}`.toLowerCase().includes(wanted));
  const phases = [...new Set(fitting.map((k) => k.phase))];
  const there = (k: StepKind) => k.once && present.includes(k.kind);
  const add = (k: StepKind | undefined) => {
    if (!k || there(k)) return;
    onAdd(k.defaults);
    dialog.current?.close();
  };
  return (
    <dialog ref={dialog} className="modal" onClose={onClose} aria-label="Add a step">
      <div className="modal-box flex max-h-[80vh] w-[36rem] flex-col gap-3">
        <h2 className="text-base font-semibold">Add a step</h2>
        <input
          className="input input-sm w-full"
          type="search"
          aria-label="Search steps"
          placeholder="Search, such as pivots, normals, lightmap"
          value={search}
          onChange={(e) => setSearch(e.target.value)}
          onKeyDown={(e) => e.key === "Enter" && add(fitting.find((k) => !there(k)))}
        />
        <div className="flex flex-col gap-3 overflow-y-auto">
          {phases.map((phase) => (
            <section key={phase} aria-label={phase}>
              <h3 className="text-xs font-semibold opacity-80">{phase}</h3>
              <ul>
                {fitting
                  .filter((k) => k.phase === phase)
                  .map((k) => (
                    <li key={k.kind}>
                      <button
                        type="button"
                        className="flex w-full items-start gap-2 rounded-field px-2 py-1 text-left enabled:hover:bg-base-200 disabled:opacity-70"
                        disabled={there(k)}
                        onClick={() => add(k)}
                      >
                        <Plus size={14} className="mt-1 shrink-0" aria-hidden />
                        <span>
                          <b className="font-semibold">{k.title}</b>
                          {there(k) && <span className="ml-2 text-xs">on the tape already</span>}
                          <span className="block text-xs leading-snug">{k.summary}</span>
                        </span>
                      </button>
                    </li>
                  ))}
              </ul>
            </section>
          ))}
          {!fitting.length && <p>No step fits “{search}”.</p>}
        </div>
        <div className="flex justify-end">
          <button type="button" className="btn btn-sm" onClick={() => dialog.current?.close()}>
            Cancel
          </button>
        </div>
      </div>
    </dialog>
  );
}
