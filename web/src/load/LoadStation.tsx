// The Load station: what is in the source, what travels, which unit it is in, shapes, sets.
import { FilePlus2, Trash2 } from "lucide-react";
import { useRef, useState } from "react";
import type { Haul, PartSet, StepData } from "../api/client";
import { Facts } from "../haul/stations";
import { metres, plural } from "../shared/format";
import { Sentence } from "../shared/Sentence";
import { Sets } from "./Sets";
import { Shapes } from "./Shapes";
import { TravelList } from "./TravelList";
import { onlyAssumed, UnitEvidence } from "./UnitEvidence";

const PAGES = ["contents", "travel list", "unit", "shapes", "sets"] as const;
type Page = (typeof PAGES)[number];

type Props = {
  haul: Haul;
  busy: boolean;
  onSteps: (steps: StepData[]) => void;
  onSets: (sets: PartSet[]) => void;
  onFiles: (files: File[]) => void;
  onRemoveFile: (path: string) => void;
};

export function LoadStation(props: Props) {
  const { haul, busy, onFiles } = props;
  const [page, setPage] = useState<Page>("contents");
  const input = useRef<HTMLInputElement>(null);
  const s = haul.source;
  if (!s)
    return (
      <p className="p-3 opacity-80">{busy ? "The scene is being read …" : "The source is not read yet."}</p>
    );
  const behind = s.travel.filter((t) => t.verdict === "behind").length;
  const badge: Partial<Record<Page, string>> = {
    "travel list": behind ? `${behind} behind` : "",
    unit: onlyAssumed(haul) ? "assumed" : "",
    sets: (haul.route.sets ?? []).length ? String((haul.route.sets ?? []).length) : "",
  };
  return (
    <div>
      <nav
        aria-label="Pages of the Load station"
        className="sticky top-0 z-10 flex items-center gap-1 border-b rule bg-base-100 px-2 py-1"
      >
        {PAGES.map((p) => (
          <button
            key={p}
            type="button"
            aria-current={page === p ? "page" : undefined}
            className={`rounded-field px-2 py-1 ${page === p ? "bg-neutral text-neutral-content" : "hover:bg-base-200"}`}
            onClick={() => setPage(p)}
          >
            {p.charAt(0).toUpperCase() + p.slice(1)}
            {badge[p] && <span className="ml-1.5 text-xs opacity-90">{badge[p]}</span>}
          </button>
        ))}
        <button
          type="button"
          className="btn btn-sm ml-auto"
          disabled={busy}
          title="Further models land in the same tree; images fill what is missing"
          onClick={() => input.current?.click()}
        >
          <FilePlus2 size={14} /> Add files
        </button>
        <input
          ref={input}
          type="file"
          multiple
          hidden
          aria-label="Files to add"
          onChange={(e) => {
            if (e.target.files?.length) onFiles([...e.target.files]);
            e.target.value = "";
          }}
        />
      </nav>
      {page === "contents" && <Contents haul={haul} busy={busy} onRemove={props.onRemoveFile} />}
      {page === "travel list" && <TravelList haul={haul} busy={busy} onFiles={onFiles} />}
      {page === "unit" && <UnitEvidence haul={haul} busy={busy} onSteps={props.onSteps} />}
      {page === "shapes" && <Shapes haul={haul} busy={busy} onSteps={props.onSteps} />}
      {page === "sets" && <Sets haul={haul} busy={busy} onSets={props.onSets} onSteps={props.onSteps} />}
    </div>
  );
}

/** The files that the source was read from, where there are several; any of them can be taken out again. */
function Files({
  paths,
  busy,
  onRemove,
}: {
  paths: string[];
  busy: boolean;
  onRemove: (path: string) => void;
}) {
  return (
    <details className="border-b rule px-3 py-1.5">
      <summary className="cursor-pointer font-semibold">{plural(paths.length, "file")}</summary>
      <ul aria-label="Files of the source" className="mt-1 max-h-40 overflow-y-auto">
        {paths.map((path) => (
          <li key={path} className="flex items-center gap-2">
            <span className="min-w-0 grow break-all">{path}</span>
            <button
              type="button"
              className="btn btn-ghost btn-xs"
              disabled={busy}
              title="Read the source again without this file; add it again to have it back"
              aria-label={`Remove ${path}`}
              onClick={() => onRemove(path)}
            >
              <Trash2 size={14} />
            </button>
          </li>
        ))}
      </ul>
    </details>
  );
}

function Contents({ haul, busy, onRemove }: { haul: Haul; busy: boolean; onRemove: (path: string) => void }) {
  const s = haul.source;
  if (!s) return null;
  const silent = s.files.filter((f) => !f.convention.declared).length;
  const size = s.bounds.max.map((v, i) => metres(v - (s.bounds.min[i] ?? 0))).join(" × ");
  return (
    <div>
      <p className="border-b rule px-3 py-1.5">
        <b>{haul.sourceName}</b>: {s.convention.label}
        {s.files.length
          ? `, each file brought into it${silent ? `; ${silent} of ${s.files.length} ${silent === 1 ? "says" : "say"} nothing of unit and axes` : ""}`
          : s.convention.declared
            ? " (as the format says)"
            : " (a guess, the format says nothing)"}
        .{" "}
        {s.counts.parts ? (
          <>
            {haul.reading ? "As its files say" : "As it stands"} it measures <b>{size}</b>.
          </>
        ) : (
          "There is nothing in it to measure."
        )}
      </p>
      {(haul.revision?.files.length ?? 0) > 1 && (
        <Files paths={haul.revision?.files ?? []} busy={busy} onRemove={onRemove} />
      )}
      <Facts now={s.counts} />
      {s.notes.length > 0 && (
        <ul className="border-t rule" aria-label="Notes of the reader">
          {s.notes.slice(0, 60).map((n, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: two notes may say the same of the same place
            <li key={i} className="flex gap-2 border-b rule px-3 py-1">
              <span className="w-20 shrink-0 font-semibold">
                {n.kind === "behind" ? "stays behind" : n.kind}
              </span>
              <span className="min-w-0 break-words">
                <span className="opacity-80">{n.where}: </span>
                <Sentence text={n.text} />
              </span>
            </li>
          ))}
          {s.notes.length > 60 && <li className="px-3 py-1">and {s.notes.length - 60} more</li>}
        </ul>
      )}
    </div>
  );
}
