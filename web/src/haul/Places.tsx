// Where a finding is: a picture of one place, what was measured there, and the way to the others.
import { ChevronLeft, ChevronRight } from "lucide-react";
import { useState } from "react";
import { bare, type Finding, type Place } from "../api/client";
import { usePlaces } from "../api/hooks";
import { count, figure, unitOf } from "../shared/format";
import { Sentence } from "../shared/Sentence";
import { useView } from "./selection";

export function Places({ finding }: { finding: Finding }) {
  const query = usePlaces(finding);
  const places = query.data ?? [];
  const [at, setAt] = useState(0);
  const { look, mark, select, selected } = useView();
  if (query.error) return <p className="pl-6 text-error">{query.error.message}</p>;
  const place = places[at];
  if (!place)
    return query.isPending ? <p className="h-[116px] pl-6 opacity-80">Loading the places …</p> : null;
  const go = (to: number) => {
    const next = places[to];
    if (!next) return;
    setAt(to);
    mark(next.sources);
    look({ source: -1, centre: next.centre as [number, number, number], size: next.size });
  };
  const wanted = (p: Place) => p.identities.length > 0 && p.identities.every((id) => selected.has(id));
  const toggle = (p: Place) => {
    const own = new Set(p.identities);
    const rest = [...selected.keys()].filter((id) => !own.has(id));
    select(
      wanted(p) ? rest : [...rest, ...own],
      p.identities.map((id, k) => [id, p.sources[k] ?? -1] as const),
    );
  };
  return (
    <figure className="mt-1.5 flex gap-3 pl-6" aria-label={`Places of ${finding.title}`}>
      <button
        type="button"
        className="h-[108px] w-48 shrink-0 overflow-hidden rounded-field border rule bg-base-200"
        title="Go there in the view"
        onClick={() => go(at)}
      >
        <Picture key={`${finding.id} ${at}`} finding={finding} at={at} place={place} />
      </button>
      <figcaption className="flex min-w-0 grow flex-col gap-1">
        {place.text ? (
          <ul className="max-h-[84px] w-full overflow-y-auto border rule" aria-label="To be mended by itself">
            {places.map((p, k) => (
              <li
                key={p.text}
                className={`flex items-start gap-2 px-2 py-0.5 ${k === at ? "bg-primary/20" : ""}`}
              >
                <input
                  type="checkbox"
                  className="checkbox checkbox-xs mt-0.5"
                  aria-label={`Select the parts of: ${p.text}`}
                  checked={wanted(p)}
                  onChange={() => toggle(p)}
                />
                <button type="button" className="min-w-0 text-left leading-snug" onClick={() => go(k)}>
                  <Sentence text={p.text} />
                </button>
              </li>
            ))}
          </ul>
        ) : (
          <span className="break-words leading-snug" title={place.names.join(", ")}>
            {place.names.slice(0, 2).join(" and ")}
            {place.names.length > 2 && ` and ${count(place.names.length - 2)} more`}
          </span>
        )}
        {place.value !== null && !place.text && (
          <span>
            {figure(place.value)} {unitOf(place.value, place.unit)}
          </span>
        )}
        <span className="grow" />
        <span className="flex items-center gap-1 whitespace-nowrap">
          <button
            type="button"
            className="btn btn-xs px-1"
            disabled={at === 0}
            aria-label="The place before"
            onClick={() => go(at - 1)}
          >
            <ChevronLeft size={13} />
          </button>
          <button
            type="button"
            className="btn btn-xs px-1"
            disabled={at + 1 >= places.length}
            aria-label="The next place"
            onClick={() => go(at + 1)}
          >
            <ChevronRight size={13} />
          </button>
          place {at + 1} of {count(places.length)}
        </span>
      </figcaption>
    </figure>
  );
}

function Picture({ finding, at, place }: { finding: Finding; at: number; place: Place }) {
  const [failed, setFailed] = useState(false);
  const [there, setThere] = useState(false);
  if (failed)
    return (
      <span className="grid size-full place-items-center p-2 text-xs">The image could not be loaded</span>
    );
  return (
    <span className="relative grid size-full place-items-center text-xs">
      {!there && "Drawing it …"}
      <img
        src={`/api/scenes/${bare(finding.sceneId)}/findings/${finding.id}/places/${at}/picture.png`}
        alt={`Close view of ${place.names.slice(0, 2).join(" and ")}`}
        className="absolute inset-0 size-full object-cover"
        onLoad={() => setThere(true)}
        onError={() => setFailed(true)}
      />
    </span>
  );
}
