// The six stations with what is still open at each.
import { NavLink } from "react-router";
import type { Haul } from "../api/client";
import { plural } from "../shared/format";

export const STATIONS = ["load", "survey", "mend", "light", "pack", "arrive"] as const;
export type Station = (typeof STATIONS)[number];

function openText(haul: Haul, station: Station): string {
  const open = haul.open;
  const serious = open.survey;
  switch (station) {
    case "load":
      return haul.source ? plural(haul.source.counts.parts, "part") : "no source";
    case "survey":
      return !haul.source ? "–" : serious ? `${serious} open` : "clear";
    case "mend":
      return !haul.run
        ? "not run"
        : haul.run.stale
          ? "changed since run"
          : open.mend
            ? `${open.mend} to mend`
            : "mended";
    case "light":
      return !haul.source ? "–" : open.light ? "UV set missing" : "UV sets there";
    case "pack":
      return haul.package ? `${haul.package.format} packed` : "not packed";
    case "arrive":
      return haul.arrival
        ? haul.arrival.report.ok
          ? "✓ as it left"
          : `✗ ${open.arrive} wrong`
        : "not proven";
  }
}

const done = (haul: Haul, station: Station): boolean =>
  ({
    load: !!haul.source,
    survey: !!haul.source && haul.open.survey === 0,
    mend: !!haul.run && !haul.run.stale && haul.open.mend === 0,
    light: !!haul.source && haul.open.light === 0,
    pack: !!haul.package,
    arrive: !!haul.arrival?.report.ok,
  })[station];

export function Trail({ haul }: { haul: Haul }) {
  return (
    <nav aria-label="Trail" className="shrink-0 border-b rule bg-base-200 px-3">
      <ol className="flex items-stretch">
        {STATIONS.map((station, i) => (
          <li key={station} className="flex min-w-0 grow basis-0 items-center">
            <NavLink
              to={`/hauls/${haul.id}/${station}`}
              className={({ isActive }) =>
                `flex min-w-0 items-center gap-2 border-b-2 py-1.5 pr-3 ${
                  isActive ? "border-primary" : "border-transparent hover:border-base-300"
                }`
              }
            >
              <span
                aria-hidden
                className={`grid size-6 shrink-0 place-items-center rounded-full border text-xs font-semibold ${
                  done(haul, station)
                    ? "border-secondary bg-secondary text-secondary-content"
                    : "border-base-content/50"
                }`}
              >
                {done(haul, station) ? "✓" : i + 1}
              </span>
              <span className="min-w-0">
                <span className="block font-semibold capitalize leading-tight">{station}</span>
                <span className="block truncate text-xs leading-tight opacity-80">
                  {openText(haul, station)}
                </span>
              </span>
            </NavLink>
            {i < STATIONS.length - 1 && (
              <span
                aria-hidden
                className="mx-2 h-0 min-w-3 grow border-t-2 border-dotted border-base-content/30"
              />
            )}
          </li>
        ))}
      </ol>
    </nav>
  );
}
