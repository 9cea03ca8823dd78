// The preview bake: a first look within seconds, then more samples, with the noise that is left in each part.
import { useState } from "react";
import { api, type BakeReport, type Haul } from "../api/client";
import { count, plural } from "../shared/format";
import { tell } from "../shared/messages";
import { ended } from "../view/load";
import { identitiesOf, useView } from "./selection";

const share = (part: number) => `${part < 0.1 ? (part * 100).toFixed(1) : Math.round(part * 100)} %`;
const lux = (value: number) => `${value < 100 ? value.toFixed(1) : count(value)} lx`;
const SKY: [number, number, number] = [0.87, 1, 1.2];

export function Bake({ haul }: { haul: Haul }) {
  const scene = haul.result?.id ?? "";
  const { selected, set, mark, baked } = useView();
  const [samples, setSamples] = useState(0);
  const [divide, setDivide] = useState(4);
  const [sky, setSky] = useState(2300);
  const [lamps, setLamps] = useState(1);
  const [only, setOnly] = useState(false);
  const [asking, setAsking] = useState<AbortController | null>(null);
  const [report, setReport] = useState<BakeReport | null>(null);
  const chosen = identitiesOf(selected);
  const go = (wanted: number) => {
    const stop = new AbortController();
    setAsking(stop);
    const light = SKY.map((part) => part * sky) as [number, number, number];
    const parts = only ? chosen : [];
    let job = "";
    api
      .bake(scene, { samples: wanted, divide, sky: light, lamps, parts })
      .then((begun) => {
        job = begun.id;
        return ended(begun, stop.signal);
      })
      .then((id) => api.answer(id))
      .then((answer) => {
        setReport(answer.bake ?? null);
        setSamples(wanted);
        set({ baked: { job, scene }, lens: "light" });
      })
      .catch((error: Error) => !stop.signal.aborted && tell("error", error.message))
      .finally(() => setAsking(null));
  };
  const again = () => setSamples(0);
  return (
    <section aria-label="Preview bake" className="flex flex-col gap-2 border-t rule pt-2">
      <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
        <h3 className="font-semibold">Preview bake</h3>
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
        <label className="input input-xs w-36">
          Sky
          <input
            type="number"
            aria-label="Sky, candela per square metre"
            min={0}
            value={sky}
            onChange={(e) => {
              setSky(Math.max(0, Number(e.target.value)));
              again();
            }}
          />
          cd/m²
        </label>
        <label className="input input-xs w-24">
          Lamps ×
          <input
            type="number"
            aria-label="Power of lamps, times"
            min={0}
            step="any"
            value={lamps}
            onChange={(e) => {
              setLamps(Math.max(0, Number(e.target.value)));
              again();
            }}
          />
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
          <p className="flex flex-wrap items-center gap-x-3">
            <span>
              {plural(report.maps, "map")}, {count(report.texels)} texels, {plural(report.samples, "sample")}{" "}
              each, {report.seconds.toFixed(1)} s; noise <b>{share(report.noise)}</b>; white is{" "}
              {lux(report.white)}.
            </span>
            {baked && (
              <span className="ml-auto flex gap-2">
                <a className="link" href={`/api/jobs/${baked.job}/light.exr`}>
                  Download EXR
                </a>
                <a className="link" href={`/api/jobs/${baked.job}/light.png`}>
                  PNG
                </a>
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
          <ol className="max-h-36 overflow-y-auto border rule" aria-label="Noise and light by part">
            {report.parts.slice(0, 120).map((p) => (
              <li key={`${p.source} ${p.name}`}>
                <button
                  type="button"
                  className="grid w-full grid-cols-[1fr_5rem_5.5rem_5rem_7rem] items-center gap-2 px-2 text-left tabular-nums hover:bg-base-200"
                  title={`Mark ${p.name} in the view`}
                  onClick={() => mark([p.source])}
                >
                  <span className="truncate">{p.name}</span>
                  <span className="text-right">
                    {p.width} × {p.height}
                  </span>
                  <span className="text-right">{lux(p.lux)}</span>
                  <span className="text-right">± {share(p.noise)}</span>
                  <span className={`text-right ${p.buried > 0.02 ? "text-error" : "opacity-80"}`}>
                    {p.buried > 0.005 ? `${share(p.buried)} in a wall` : ""}
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
