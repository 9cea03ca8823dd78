// The stations in a row, with what is still open at each.
import { NavLink } from "react-router";
import type { Haul } from "../api/client";
import { STATIONS } from "./stationList";

export function Trail({ haul }: { haul: Haul }) {
  return (
    <nav aria-label="Trail" className="shrink-0 border-b rule bg-base-200 px-3">
      <ol className="flex items-stretch">
        {STATIONS.map((station, i) => (
          <li key={station.id} className="flex min-w-0 grow basis-0 items-center">
            <NavLink
              to={`/hauls/${haul.id}/${station.id}`}
              className={({ isActive }) =>
                `flex min-w-0 items-center gap-2 border-b-2 py-1.5 pr-3 ${
                  isActive ? "border-primary" : "border-transparent hover:border-base-300"
                }`
              }
            >
              <span
                aria-hidden
                className={`grid size-6 shrink-0 place-items-center rounded-full border text-xs font-semibold ${
                  station.done(haul)
                    ? "border-secondary bg-secondary text-secondary-content"
                    : "border-base-content/50"
                }`}
              >
                {station.done(haul) ? "✓" : i + 1}
              </span>
              <span className="min-w-0">
                <span className="block font-semibold capitalize leading-tight">{station.id}</span>
                <span className="block truncate text-xs leading-tight opacity-80">{station.open(haul)}</span>
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
