// The view with its lenses, the legend of the lens, the wipe and what drawing it costs.
import { Columns2, Crosshair, PersonStanding } from "lucide-react";
import { useCallback, useState } from "react";
import { api, asRead, type Haul } from "../api/client";
import { nameOf, useView } from "../haul/selection";
import { plural } from "../shared/format";
import { useShortcut } from "../shared/keys";
import { LENSES, lensNumber, lensOf } from "./lenses";
import { BAKED, STAGE } from "./load";
import { type Figures, SceneView } from "./SceneView";
import { bar, PERSON_METRES } from "./scale";

type Props = { haul: Haul; arrive: boolean; load: boolean };

export function ViewPanel({ haul, arrive, load }: Props) {
  const {
    lens,
    pair,
    wipe,
    set,
    selected,
    select,
    look,
    preview,
    drawing,
    figure,
    placing,
    picking,
    corners,
    baked,
    stage,
    level,
    batch,
  } = useView();
  const [figures, setFigures] = useState<Figures | null>(null);
  const [scale, setScale] = useState(0);
  const length = bar(scale);
  const arrival = arrive ? haul.arrival : null;
  const other = arrival ? arrival.sceneId : haul.run?.sceneId;
  const record = stage !== null && !arrive && !load ? haul.run?.records[stage - 1] : undefined;
  const drawn = !!haul.source?.counts.parts;
  const paired = drawn && ((pair && !!other) || !!record);
  const staged = (side: string) => `${STAGE}${haul.run?.id}|${haul.id}|${stage}|${side}`;
  const source = asRead(haul, haul.revision?.sceneId ?? "");
  const shown = arrive
    ? (haul.run?.readSceneId ?? source)
    : ((load ? undefined : haul.run?.sceneId) ?? source);
  const leftId = record ? staged("before") : paired ? (haul.run?.readSceneId ?? "") : shown;
  const levels = !arrive && !load ? (haul.result?.counts.levels ?? 0) : 0;
  const coarse = !record && level > 0 && level <= levels ? `@${level}` : "";
  const rightId = record ? staged("after") : other && `${other}${coarse}`;
  const otherLabel = record
    ? `after ${record.title}`
    : arrival
      ? "arrived"
      : coarse
        ? `level ${level}`
        : "after the route";
  const leftLabel = record
    ? `before ${record.title}`
    : paired || arrive || load || !haul.run
      ? haul.reading && shown === source
        ? "source, as the route reads it"
        : "source"
      : coarse
        ? `level of detail ${level}`
        : "after the route";

  useShortcut("lens", () => set({ lens: LENSES[(lensNumber(lens) + 1) % LENSES.length]?.id ?? lens }));
  useShortcut("pair", () => set(stage === null ? { pair: !pair } : { stage: null, pair: false }), !!other);

  // in a pair everything stands where the route puts it
  const scene = paired ? haul.run?.sceneId : shown;
  const onPick = useCallback(
    async (source: number, add: boolean) => {
      if (source < 0 || !scene) {
        select([], []);
        return;
      }
      const page = await api.parts(scene, new URLSearchParams({ sources: String(source), limit: "1" }));
      const part = page.items[0];
      if (!part) return;
      const name = nameOf(part);
      select(add ? [...useView.getState().selected.keys(), name] : [name], [[name, source]]);
    },
    [select, scene],
  );

  const frame = async () => {
    const first = [...selected.values()][0];
    if (first === undefined || !scene) return;
    const page = await api.parts(scene, new URLSearchParams({ sources: String(first), limit: "1" }));
    const part = page.items[0];
    if (part)
      look({
        source: first,
        centre: [part.x, part.y, part.z],
        size: Math.hypot(part.sizeX, part.sizeY, part.sizeZ) / 2,
      });
  };

  if (!leftId) return <div className="hatch size-full opacity-10" aria-hidden />;
  return (
    <section className="flex h-full min-w-0 flex-col" aria-label="View">
      <div className="flex min-h-9 shrink-0 flex-wrap items-center gap-x-2 gap-y-1 border-b rule px-2 py-0.5">
        <label className="flex items-center gap-1.5">
          <span className="opacity-80">Lens</span>
          <select
            className="select select-sm w-44"
            value={lens}
            onChange={(e) => set({ lens: e.target.value })}
            aria-label="Lens"
          >
            {LENSES.map((l) => (
              <option key={l.id} value={l.id}>
                {l.name}
              </option>
            ))}
          </select>
        </label>
        <button
          type="button"
          className={`btn btn-sm ${paired ? "btn-secondary" : ""}`}
          disabled={!other}
          aria-pressed={paired}
          title={other ? "Source beside what comes of it (P)" : "Run the route to have something to compare"}
          onClick={() => set(record ? { stage: null, pair: false } : { pair: !pair })}
        >
          <Columns2 size={14} /> Pair
        </button>
        <button
          type="button"
          className="btn btn-sm"
          disabled={!selected.size}
          onClick={frame}
          title="Bring into view"
        >
          <Crosshair size={14} /> Frame
        </button>
        {levels > 0 && (
          <select
            className="select select-sm w-24"
            aria-label="Level of detail"
            value={level}
            onChange={(e) => set({ level: Number(e.target.value) })}
          >
            {[...Array(levels + 1).keys()].map((k) => (
              <option key={k} value={k}>
                {k ? `Level ${k}` : "Whole"}
              </option>
            ))}
          </select>
        )}
        <button
          type="button"
          className={`btn btn-sm btn-square ${placing || figure ? "btn-secondary" : ""}`}
          aria-pressed={placing || !!figure}
          aria-label={figure ? "Take the figure of a person away" : "Set down the figure of a person"}
          title={`A person, ${PERSON_METRES} m tall: click, then click where it stands`}
          onClick={() => set(figure ? { figure: null, placing: false } : { placing: !placing })}
        >
          <PersonStanding size={15} />
        </button>
      </div>
      <div className="relative min-h-0 grow" data-testid="view">
        <SceneView
          key={record ? `step ${stage}` : paired ? "pair" : "single"}
          left={{
            id:
              load && preview && !paired
                ? `${leftId}|${preview}`
                : paired
                  ? leftId
                  : baked?.scene === leftId && !coarse
                    ? `${BAKED}${baked.job}`
                    : `${leftId}${coarse}`,
            label: leftLabel,
            images: haul.revision?.sceneId ?? null,
          }}
          right={
            paired && rightId
              ? { id: rightId, label: otherLabel, images: arrival ? rightId : (haul.run?.sceneId ?? null) }
              : null
          }
          onPick={onPick}
          onFigures={setFigures}
          onScale={setScale}
        />
        {length && (
          <span
            className={`pointer-events-none absolute right-3 flex flex-col items-center text-xs ${paired ? "bottom-8" : "bottom-2"}`}
            data-testid="scale-bar"
            title="At the point that the view turns about"
          >
            <span className="rounded-field bg-base-100/80 px-1 leading-tight">{length.label}</span>
            <span
              className="h-1.5 border-x-2 border-b-2 border-base-content"
              style={{ width: length.pixels }}
            />
          </span>
        )}
        {paired && (
          <>
            <div
              className="pointer-events-none absolute inset-y-0 w-0.5 bg-secondary"
              style={{ left: `${wipe * 100}%` }}
              aria-hidden
            />
            <span className="pointer-events-none absolute left-2 top-2 rounded-field border rule bg-base-100 px-2 py-0.5 text-xs">
              ◧ {leftLabel}
            </span>
            <span className="pointer-events-none absolute right-2 top-2 rounded-field border rule bg-base-100 px-2 py-0.5 text-xs">
              {otherLabel} ◨
            </span>
            <input
              type="range"
              className="range range-secondary range-xs absolute inset-x-3 bottom-2 w-[calc(100%-1.5rem)]"
              min={0}
              max={1}
              step={0.005}
              value={wipe}
              aria-label={`Wipe between ${record ? `before and after ${record.title}` : "source and result"}`}
              onChange={(e) => set({ wipe: Number(e.target.value) })}
            />
          </>
        )}
        {drawing && (
          <span className="pointer-events-none absolute inset-x-2 bottom-2 rounded-field border rule bg-base-100 px-2 py-1 text-center text-xs">
            Drag across the parts; the box goes around them. Esc cancels.
          </span>
        )}
        {picking && (
          <span className="pointer-events-none absolute inset-x-2 bottom-8 rounded-field border rule bg-base-100 px-2 py-1 text-center text-xs">
            {corners ? "Click the point; corners catch." : "Click on what is to be split off."} Esc cancels.
          </span>
        )}
        {placing && (
          <span className="pointer-events-none absolute inset-x-2 bottom-8 rounded-field border rule bg-base-100 px-2 py-1 text-center text-xs">
            Click where the person of {PERSON_METRES} m is to stand. Esc cancels.
          </span>
        )}
        {!paired && (
          <span className="pointer-events-none absolute left-2 top-2 rounded-field border rule bg-base-100 px-2 py-0.5 text-xs">
            {load && preview ? "as it would be made" : leftLabel}
          </span>
        )}
      </div>
      <p className="flex shrink-0 items-center gap-3 border-t rule px-2 py-1 text-xs">
        <span
          className="min-w-0 grow truncate"
          title={batch?.text ?? [lensOf(lens)?.legend, lensOf(lens)?.note].filter(Boolean).join(" · ")}
        >
          {batch?.text ?? lensOf(lens)?.legend}
        </span>
        <span
          className="shrink-0"
          data-testid="view-figures"
          data-calls={figures?.calls ?? ""}
          data-batches={figures?.batches ?? ""}
          title="Counted by the renderer for the last frame"
        >
          {figures ? `${plural(figures.calls, "draw call")} · ${plural(figures.triangles, "triangle")}` : ""}
        </span>
      </p>
    </section>
  );
}
