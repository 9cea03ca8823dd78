// The lightmap of the selected part with its islands, and its light when it was baked: pointing at an island shows it on the
// surface, and pointing at the surface shows it here.
import { useEffect, useMemo, useRef, useState } from "react";
import type { Haul } from "../api/client";
import { plural } from "../shared/format";
import { type Islands as Found, islandAt, islandsOf, linesAround } from "../view/islands";
import { BAKED, type ViewFile } from "../view/load";
import { useViewFile } from "../view/useViewFile";
import { useView } from "./selection";

/** The last part of an identity, without its number among equals. */
const called = (identity: string) => (identity.split("/").at(-1) ?? "").replace(/\|\d+$/, "");

/** Pixels along the longer side of the map. */
const SIDE = 220;

export function Islands({ haul }: { haul: Haul }) {
  const scene = haul.result?.id;
  const { selected, baked, lens } = useView();
  const [name = "", source = -1] = selected.size === 1 ? ([...selected][0] ?? []) : [];
  const lit = baked && baked.scene === scene && lens === "light" ? `${BAKED}${baked.job}` : scene;
  const { data: file } = useViewFile(source >= 0 ? lit : undefined);
  const islands = useMemo(() => (file && source >= 0 ? islandsOf(file, source) : null), [file, source]);
  if (!scene || source < 0)
    return (
      <p className="border-t rule pt-2 opacity-80">Select one part to see its lightmap with the islands.</p>
    );
  if (!file) return <p role="status">Loading the islands …</p>;
  if (!islands)
    return (
      <p className="border-t rule pt-2 opacity-80">
        “{called(name)}” has no lightmap set, or too many triangles to draw it here.
      </p>
    );
  return <IslandMap key={`${lit} ${source}`} {...{ file, islands, source, name }} />;
}

function IslandMap({
  file,
  islands,
  source,
  name,
}: {
  file: ViewFile;
  islands: Found;
  source: number;
  name: string;
}) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const [pointed, setPointed] = useState(-1);
  const { set, spot } = useView();
  const [wide = 0, high = 0] = file.lightmaps.subarray(2 * islands.instance, 2 * islands.instance + 2);
  const shape = wide && high ? wide / high : 1;
  const width = Math.round(shape >= 1 ? SIDE : SIDE * shape);
  const height = Math.round(shape >= 1 ? SIDE / shape : SIDE);
  const seen = spot?.source === source ? (islands.of[spot.triangle] ?? -1) : -1;
  const shown = pointed >= 0 ? pointed : seen;

  useEffect(() => {
    const g = canvas.current?.getContext("2d");
    if (g) draw(g, file, islands, width, height, shown);
  }, [file, islands, width, height, shown]);

  useEffect(() => {
    set({ watched: source });
    return () => set({ watched: null, spot: null });
  }, [source, set]);

  useEffect(() => {
    if (shown < 0) return;
    set({ places: linesAround(file, islands, shown) });
    return () => set({ places: null });
  }, [file, islands, shown, set]);

  const count = useMemo(
    () => islands.of.reduce((sum, i) => sum + (i === shown ? 1 : 0), 0),
    [islands, shown],
  );
  return (
    <section aria-label="Islands of the lightmap" className="flex gap-3 border-t rule pt-2">
      <canvas
        ref={canvas}
        width={width}
        height={height}
        tabIndex={0}
        role="img"
        aria-label={`Lightmap of ${called(name)}: ${plural(islands.count, "island")}; arrow keys go from one to the next`}
        className="shrink-0 cursor-crosshair border rule"
        onPointerMove={(e) => {
          const box = e.currentTarget.getBoundingClientRect();
          setPointed(
            islandAt(file, islands, (e.clientX - box.left) / box.width, (e.clientY - box.top) / box.height),
          );
        }}
        onPointerLeave={() => setPointed(-1)}
        onKeyDown={(e) => {
          const step =
            e.key === "ArrowRight" || e.key === "ArrowDown"
              ? 1
              : e.key === "ArrowLeft" || e.key === "ArrowUp"
                ? -1
                : 0;
          if (!step) return;
          e.preventDefault();
          setPointed((old) => (Math.max(old, step > 0 ? -1 : 0) + step + islands.count) % islands.count);
        }}
        onBlur={() => setPointed(-1)}
      />
      <div className="flex min-w-0 flex-col gap-1">
        <h3 className="truncate font-semibold" title={name}>
          {called(name)}
        </h3>
        <p>
          {wide ? `${wide} × ${high} texels, ` : "No size chosen yet, "}
          {plural(islands.count, "island")}.
        </p>
        <p className="opacity-80" aria-live="polite">
          {shown >= 0
            ? `Island ${shown + 1}: ${plural(count, "triangle")}, outlined in the view.`
            : "Point at an island to see it on the surface, or at the surface to see it here."}
        </p>
      </div>
    </section>
  );
}

const ink = "#1f2a30";
const TINTS = ["#8fb8b2", "#d9b26a", "#a9b4d0", "#c8a08f", "#b3c48a"];

function draw(
  g: CanvasRenderingContext2D,
  file: ViewFile,
  islands: Found,
  width: number,
  height: number,
  shown: number,
) {
  g.fillStyle = "#f1ede4";
  g.fillRect(0, 0, width, height);
  const { mesh } = islands;
  const light = pageOf(file, islands.instance);
  if (light) {
    g.imageSmoothingEnabled = false;
    g.drawImage(light, 0, 0, width, height);
  }
  const spot = (vertex: number): [number, number] => {
    const v = 2 * (mesh.firstVertex + vertex);
    return [(file.uv1[v] ?? 0) * width, (file.uv1[v + 1] ?? 0) * height];
  };
  for (let t = 0; t < islands.of.length; t++) {
    const island = islands.of[t] ?? 0;
    if (light && island !== shown) continue;
    g.fillStyle = island === shown ? "#e8961488" : (TINTS[island % TINTS.length] ?? ink);
    g.beginPath();
    for (let k = 0; k < 3; k++) {
      const [x, y] = spot(file.indices[mesh.firstIndex + 3 * t + k] ?? 0);
      if (k) g.lineTo(x, y);
      else g.moveTo(x, y);
    }
    g.fill();
  }
  islands.outlines.forEach((ends, island) => {
    g.strokeStyle = ink;
    g.lineWidth = island === shown ? 2.5 : 0.7;
    g.beginPath();
    for (let k = 0; k + 1 < ends.length; k += 2) {
      g.moveTo(...spot(ends[k] as number));
      g.lineTo(...spot(ends[k + 1] as number));
    }
    g.stroke();
  });
}

/** The part of a baked page that is this part's map, as a picture of its own. */
function pageOf(file: ViewFile, instance: number): HTMLCanvasElement | null {
  const [sx = 0, sy = 0, ox = 0, oy = 0] = file.places?.subarray(4 * instance, 4 * instance + 4) ?? [];
  if (!file.pages || sx <= 0) return null;
  const { width, height, data } = file.pages;
  const first = 4 * width * height * (file.leaves?.[instance] ?? 0);
  const [x, y, w, h] = [ox * width, oy * height, sx * width, sy * height].map(Math.round) as [
    number,
    number,
    number,
    number,
  ];
  const out = document.createElement("canvas");
  [out.width, out.height] = [w, h];
  const whole = new ImageData(
    new Uint8ClampedArray(data.buffer, data.byteOffset + first, 4 * width * height),
    width,
    height,
  );
  out.getContext("2d")?.putImageData(whole, -x, -y, x, y, w, h);
  return out;
}
