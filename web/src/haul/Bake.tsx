// The preview bake: a first look within seconds, then more samples, with the noise that is left in each part.
import { useEffect, useRef, useState } from "react";
import { api, type BakeReport, type Haul } from "../api/client";
import { count, plural } from "../shared/format";
import { tell } from "../shared/messages";
import { ended } from "../view/load";
import { asked, DAY, type Mix, Powers } from "./Powers";
import { identitiesOf, useView } from "./selection";

const share = (part: number) => `${part < 0.1 ? (part * 100).toFixed(1) : Math.round(part * 100)} %`;
const lux = (value: number) => `${value < 100 ? value.toFixed(1) : count(value)} lx`;

type By = "noise" | "lux" | "buried" | "leaks";
const sorted = (parts: BakeReport["parts"], by: By) => [...parts].sort((a, b) => b[by] - a[by]);

export function Bake({ haul }: { haul: Haul }) {
  const scene = haul.result?.id ?? "";
  const { selected, set, mark, baked } = useView();
  const [samples, setSamples] = useState(0);
  const [divide, setDivide] = useState(4);
  const [mix, setMix] = useState<Mix>(DAY);
  const [white, setWhite] = useState<number | null>(null);
  const [marked, setMarked] = useState(false);
  const [clean, setClean] = useState(false);
  const [only, setOnly] = useState(false);
  const [asking, setAsking] = useState<AbortController | null>(null);
  const [report, setReport] = useState<BakeReport | null>(null);
  const [by, setBy] = useState<By>("noise");
  const told = useRef("");
  const chosen = identitiesOf(selected);
  const go = (wanted: number, keep = true) => {
    const stop = new AbortController();
    setAsking(stop);
    const parts = only ? chosen : [];
    let job = "";
    told.current = JSON.stringify([mix, white, marked, clean]);
    api
      .bake(scene, {
        samples: wanted,
        divide,
        ...asked(mix),
        parts,
        keep,
        white,
        mark: marked,
        denoise: clean,
      })
      .then((begun) => {
        job = begun.id;
        return ended(begun, stop.signal);
      })
      .then((id) => api.answer(id))
      .then((answer) => {
        setReport(answer.bake ?? null);
        setSamples(wanted);
        set({ baked: { job, scene }, lens: "light" });
        if (white === null && answer.bake) {
          // from now on brighter lamps look brighter
          const found = Number(answer.bake.white.toPrecision(2));
          told.current = JSON.stringify([mix, found, marked, clean]);
          setWhite(found);
        }
      })
      .catch((error: Error) => !stop.signal.aborted && tell("error", error.message))
      .finally(() => setAsking(null));
  };
  const again = () => setSamples(0);
  // powers, colours and the exposure take what was traced as it is: they are asked for by themselves
  const wish = JSON.stringify([mix, white, marked, clean]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: what is asked for is in `wish`
  useEffect(() => {
    if (!samples || asking || wish === told.current) return;
    const soon = setTimeout(() => go(samples), 300);
    return () => clearTimeout(soon);
  }, [wish, samples, asking]);
  return (
    <section aria-label="Preview bake" className="flex flex-col gap-2 border-t rule pt-2">
      <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
        <h2 className="font-semibold">Preview bake</h2>
        <label className="flex items-center gap-1.5">
          Maps
          <select
            className="select select-xs w-24"
            value={divide}
            onChange={(e) => {
              setDivide(Number(e.target.value));
              again();
            }}
          >
            {[1, 2, 4, 8].map((d) => (
              <option key={d} value={d}>
                {d === 1 ? "full size" : `1 / ${d}`}
              </option>
            ))}
          </select>
        </label>
        {chosen.length > 0 && (
          <label className="flex items-center gap-1.5">
            <input
              type="checkbox"
              className="checkbox checkbox-xs"
              checked={only}
              onChange={(e) => {
                setOnly(e.target.checked);
                again();
              }}
            />
            only {plural(chosen.length, "selected part")}
          </label>
        )}
        <button
          type="button"
          className="btn btn-primary btn-xs ml-auto"
          disabled={!scene || !!asking}
          onClick={() => go(samples ? samples * 4 : 1)}
        >
          {samples ? `Go on to ${count(samples * 4)} samples` : "First look"}
        </button>
      </div>
      <Powers mix={mix} report={report} change={setMix} white={white} setWhite={setWhite} />
      {!scene && <p className="opacity-80">Run the route first: light needs the maps that it makes.</p>}
      {asking && (
        <p role="status" className="flex items-center gap-2">
          <span className="loading loading-spinner loading-xs" /> Tracing light …
          <button type="button" className="btn btn-xs" onClick={() => asking.abort()}>
            Pause
          </button>
          <span className="text-xs opacity-80">What is traced stays, and is not traced again.</span>
        </p>
      )}
      {report && (
        <>
          {report.before > 0 && (
            <p className="flex flex-wrap items-center gap-2">
              <span>
                ◷ The light of {plural(report.before, "part")} is from before other parts changed; what stands
                near to those was traced anew.
              </span>
              <button
                type="button"
                className="btn btn-xs"
                disabled={!!asking}
                onClick={() => go(samples, false)}
              >
                Trace all anew
              </button>
            </p>
          )}
          {report.beside > 0 && (
            <p>{plural(report.beside, "other part shows", "other parts show")} the light from before.</p>
          )}
          <p className="flex flex-wrap items-center gap-x-3">
            <span>
              {plural(report.maps, "map")}, {count(report.texels)} texels, {plural(report.samples, "sample")}{" "}
              each, {report.seconds.toFixed(1)} s; noise <b>{share(report.noise)}</b>; white is{" "}
              {lux(report.white)}.
            </span>
            {baked && (
              <span className="ml-auto flex items-center gap-2">
                <label className="flex items-center gap-1.5">
                  <input
                    type="checkbox"
                    className="checkbox checkbox-xs"
                    checked={clean}
                    onChange={(e) => setClean(e.target.checked)}
                  />
                  denoise
                </label>
                <label className="flex items-center gap-1.5">
                  <input
                    type="checkbox"
                    className="checkbox checkbox-xs"
                    checked={marked}
                    onChange={(e) => setMarked(e.target.checked)}
                  />
                  mark leaks and texels in a wall
                </label>
                <Pages job={baked.job} pages={report.pages} />
              </span>
            )}
          </p>
          {report.unread.map((what) => (
            <p key={what} className="text-xs opacity-80">
              {what}.
            </p>
          ))}
          {report.lost.map((why) => (
            <p key={why} className="text-error">
              ✗ Tiles are missing: {why}
            </p>
          ))}
          {report.leaks > 0 && (
            <p className="text-error">
              ✗ Light of sky or sun comes straight through gaps of some millimetres onto{" "}
              {plural(report.leaks, "part")}.{" "}
              <button type="button" className="link" onClick={() => setBy("leaks")}>
                Show them first
              </button>
            </p>
          )}
          <label className="flex items-center gap-1.5">
            Sort by
            <select
              className="select select-xs w-32"
              value={by}
              onChange={(e) => setBy(e.target.value as By)}
            >
              <option value="noise">noise</option>
              <option value="lux">light</option>
              <option value="buried">texels in a wall</option>
              <option value="leaks">light through gaps</option>
            </select>
          </label>
          <ol className="max-h-36 overflow-y-auto border rule" aria-label="Noise and light by part">
            {sorted(report.parts, by)
              .slice(0, 120)
              .map((p) => (
                <li key={`${p.source} ${p.name}`}>
                  <button
                    type="button"
                    className="grid w-full grid-cols-[1fr_5rem_5.5rem_5rem_7rem] items-center gap-2 px-2 text-left tabular-nums hover:bg-base-200"
                    title={`Mark ${p.name} in the view`}
                    onClick={() => mark([p.source])}
                  >
                    <span className="truncate">
                      {p.before && <span title="Light from before other parts changed">◷ </span>}
                      {p.name}
                    </span>
                    <span className="text-right">
                      {p.width} × {p.height}
                    </span>
                    <span className="text-right">{lux(p.lux)}</span>
                    <span className="text-right">± {share(p.noise)}</span>
                    <span className={`text-right ${p.leaks ? "text-error" : ""}`}>
                      {p.leaks
                        ? `✗ ${plural(p.leaks, "leak")}`
                        : p.buried > 0.005
                          ? `${share(p.buried)} in a wall`
                          : ""}
                    </span>
                  </button>
                </li>
              ))}
          </ol>
        </>
      )}
    </section>
  );
}

/** What was baked as files: of one page, or of each of several. */
function Pages({ job, pages }: { job: string; pages: BakeReport["pages"] }) {
  const [wanted, setPage] = useState(0);
  const page = Math.min(wanted, pages.length - 1);
  const only = pages.length === 1 ? pages[0] : undefined;
  return (
    <>
      {only && only.number !== null && (
        <span className="opacity-80">
          page {only.number} of the route, {only.width} × {only.height}
        </span>
      )}
      {!only && (
        <select
          className="select select-xs w-56"
          aria-label="Page"
          value={page}
          onChange={(e) => setPage(Number(e.target.value))}
        >
          {pages.map((p, k) => (
            <option key={p.name} value={k}>
              {p.number === null ? `page ${k + 1}` : `page ${p.number} of the route`}, {p.width} × {p.height}
            </option>
          ))}
        </select>
      )}
      <a className="link" href={`/api/jobs/${job}/light.exr?page=${page}`}>
        Download EXR
      </a>
      <a className="link" href={`/api/jobs/${job}/light.png?page=${page}`}>
        PNG
      </a>
    </>
  );
}
