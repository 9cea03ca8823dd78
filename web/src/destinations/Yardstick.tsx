// The yardstick: send it, say what the other side shows, and see what follows.
import { useMutation, useQuery } from "@tanstack/react-query";
import { Check, Download } from "lucide-react";
import { useState } from "react";
import { type Answers, api, type Destination, type Problem, type Reading } from "../api/client";
import { useFormats } from "../api/hooks";
import { tell } from "../shared/messages";

const AXES = ["X", "-X", "Y", "-Y", "Z", "-Z"] as const;
type Axis = (typeof AXES)[number];
const UNITS = ["metre", "centimetre", "millimetre", "inch", "foot"] as const;
const PICTURES = ["not looked", "upright", "upside-down", "mirrored", "missing"] as const;
const COUNTS = ["one block", "two blocks", "three blocks"];

type Props = { destination: Destination; busy: boolean; onKeep: (d: Destination) => void };

export function Yardstick({ destination, busy, onKeep }: Props) {
  const formats = useFormats().data ?? [];
  const habits =
    useQuery({
      queryKey: ["habits"],
      queryFn: api.habits,
      staleTime: Infinity,
      meta: { asked: "Habits of importers" },
    }).data ?? [];
  const [format, setFormat] = useState("glb");
  const [sizes, setSizes] = useState(["", "", ""]);
  const [shownIn, setShownIn] = useState<(typeof UNITS)[number]>("metre");
  const [marks, setMarks] = useState<(Axis | null)[]>([null, null, null]);
  const [nodeScale, setNodeScale] = useState("1");
  const [picture, setPicture] = useState<(typeof PICTURES)[number]>("not looked");
  const [habit, setHabit] = useState("");

  const read = useMutation<Reading, Problem, Answers>({
    mutationFn: (answers) => api.readAnswers(destination.name, format, answers),
    onError: (p) => tell("error", p.message),
  });
  const standIn = useMutation<Answers, Problem, string>({
    mutationFn: (name) => api.standIn(destination.name, format, name),
    onSuccess: (a) => {
      setSizes(a.sizes.map((s) => String(Number(s.toPrecision(6)))));
      setShownIn(a.shownIn as (typeof UNITS)[number]);
      setMarks(a.marks as Axis[]);
      setNodeScale(String(a.nodeScale));
      setPicture(a.picture as (typeof PICTURES)[number]);
      read.mutate(a);
    },
    onError: (p) => tell("error", p.message),
  });
  const ready = sizes.every((s) => Number(s) > 0) && marks.every((m) => m);
  const reading = read.data;
  const put = (i: number, value: string) => {
    setSizes(sizes.map((s, k) => (k === i ? value : s)));
    read.reset();
  };
  return (
    <section aria-label="Yardstick" className="mt-4 rounded-box border rule bg-base-100 px-4 py-3">
      <div className="flex items-center gap-3">
        <h3 className="text-base font-semibold">Prove it with the yardstick</h3>
        <span className="grow" />
        <label className="flex items-center gap-2">
          as
          <select
            className="select select-sm w-56"
            value={format}
            aria-label="Format of the yardstick"
            onChange={(e) => {
              setFormat(e.target.value);
              read.reset();
            }}
          >
            {formats.map((f) => (
              <option key={f.name} value={f.name}>
                {f.title.split(",")[0]?.split(";")[0]}
              </option>
            ))}
          </select>
        </label>
        <a
          className="btn btn-primary btn-sm"
          href={`/api/yardstick/${encodeURIComponent(destination.name)}/${format}`}
          download
        >
          <Download size={14} /> Download
        </a>
      </div>
      <div className="mt-2 grid grid-cols-[15rem_minmax(0,1fr)] gap-5">
        <figure>
          <Drawing />
          <figcaption className="leading-snug opacity-80">
            1 m along X up to one block, 2 m along Y up to two, 3 m along Z up to three. Import it on the
            other side and look.
          </figcaption>
        </figure>
        <div className="flex min-w-0 flex-col gap-2.5">
          <fieldset>
            <legend className="font-semibold">1. How large does the other side say it is?</legend>
            <div className="mt-1 flex flex-wrap items-center gap-2">
              {["X", "Y", "Z"].map((axis, i) => (
                <label key={axis} className="input input-sm w-28">
                  <span className="opacity-80">{axis}</span>
                  <input
                    type="number"
                    step="any"
                    min={0}
                    value={sizes[i]}
                    aria-label={`Size along ${axis}`}
                    onChange={(e) => put(i, e.target.value)}
                  />
                </label>
              ))}
              <select
                className="select select-sm w-32"
                value={shownIn}
                aria-label="Shown in"
                onChange={(e) => {
                  setShownIn(e.target.value as (typeof UNITS)[number]);
                  read.reset();
                }}
              >
                {UNITS.map((u) => (
                  <option key={u} value={u}>
                    {{ foot: "feet", inch: "inches" }[u as string] ?? `${u}s`}
                  </option>
                ))}
              </select>
              <label className="flex items-center gap-2">
                scale shown on the object
                <input
                  type="number"
                  step="any"
                  className="input input-sm w-20"
                  value={nodeScale}
                  onChange={(e) => {
                    setNodeScale(e.target.value);
                    read.reset();
                  }}
                />
              </label>
            </div>
          </fieldset>
          <fieldset>
            <legend className="font-semibold">2. Where do the ends point, by its axes?</legend>
            <div className="mt-1 flex flex-col gap-1">
              {COUNTS.map((word, i) => (
                <div key={word} className="flex items-center gap-3">
                  <Blocks count={i + 1} />
                  <span className="w-24">{word}</span>
                  <div
                    className="join flex-wrap"
                    role="group"
                    aria-label={`The end with ${word} points along`}
                  >
                    {AXES.map((a) => (
                      <button
                        key={a}
                        type="button"
                        aria-pressed={marks[i] === a}
                        className={`btn join-item btn-sm w-12 px-1 ${marks[i] === a ? "btn-secondary" : ""}`}
                        onClick={() => {
                          setMarks(marks.map((m, k) => (k === i ? a : m)));
                          read.reset();
                        }}
                      >
                        {a.length === 1 ? `+${a}` : a.replace("-", "−")}
                      </button>
                    ))}
                  </div>
                </div>
              ))}
            </div>
          </fieldset>
          <div className="flex flex-wrap items-center gap-3">
            <label className="flex items-center gap-2">
              3. The arrow on it lies
              <select
                className="select select-sm w-32"
                value={picture}
                onChange={(e) => {
                  setPicture(e.target.value as (typeof PICTURES)[number]);
                  read.reset();
                }}
              >
                {PICTURES.map((p) => (
                  <option key={p}>{p}</option>
                ))}
              </select>
            </label>
            <button
              type="button"
              className="btn btn-primary btn-sm"
              disabled={!ready || read.isPending}
              onClick={() =>
                read.mutate({
                  sizes: sizes.map(Number) as [number, number, number],
                  shownIn,
                  marks: marks as [Axis, Axis, Axis],
                  nodeScale: Number(nodeScale) > 0 ? Number(nodeScale) : 1,
                  picture,
                })
              }
            >
              <Check size={14} /> Calculate
            </button>
            <span className="grow" />
            <label className="flex items-center gap-2">
              or ask a simulated receiver
              <select
                className="select select-sm w-80"
                value={habit}
                aria-label="Simulated receiver"
                onChange={(e) => {
                  setHabit(e.target.value);
                  if (e.target.value) standIn.mutate(e.target.value);
                }}
              >
                <option value="">choose one</option>
                {habits.map((h) => (
                  <option key={h.name} value={h.name}>
                    {h.title}
                  </option>
                ))}
              </select>
            </label>
          </div>
          {reading && (
            <Result reading={reading} busy={busy} builtIn={!!destination.builtIn} onKeep={onKeep} />
          )}
        </div>
      </div>
    </section>
  );
}

function Result({
  reading,
  busy,
  builtIn,
  onKeep,
}: {
  reading: Reading;
  busy: boolean;
  builtIn: boolean;
  onKeep: (d: Destination) => void;
}) {
  const made = reading.destination;
  return (
    <div
      role="status"
      data-testid="reading"
      className={`rounded-field border-2 px-3 py-2 ${reading.problems.length ? "border-error" : "border-secondary"}`}
    >
      {reading.problems.length > 0 ? (
        reading.problems.map((p) => (
          <p key={p} className="text-error">
            ✗ {p}
          </p>
        ))
      ) : (
        <>
          <p className="font-semibold">{reading.sentence}</p>
          <p>
            Factor {reading.factor},{" "}
            {reading.factorIn === "nowhere"
              ? "nothing to put anywhere"
              : `it ends in the ${reading.factorIn}`}
            ; files for it are written with{" "}
            {reading.file && (
              <b>
                {reading.file.metresPerUnit} m per unit, {reading.file.up} up, {reading.file.handedness}
                -handed
              </b>
            )}
            .
          </p>
          {(reading.remarks ?? []).map((r) => (
            <p key={r}>▲ {r}</p>
          ))}
          {made && (
            <button
              type="button"
              className="btn btn-primary btn-sm mt-2"
              disabled={busy}
              onClick={() => onKeep(made)}
            >
              {builtIn ? "Save as a destination of my own" : "Save this proof"}
            </button>
          )}
        </>
      )}
    </div>
  );
}

const Blocks = ({ count }: { count: number }) => (
  <svg viewBox="0 0 42 14" className="h-3.5 w-10 text-primary" aria-hidden>
    {[0, 1, 2].slice(0, count).map((k) => (
      <rect
        key={k}
        x={1 + k * 14}
        y={1}
        width={11}
        height={12}
        fill="currentColor"
        stroke="black"
        strokeWidth={0.6}
      />
    ))}
  </svg>
);

/** The object as it is sent, seen from the ends of all three axes: X to the left, Y to the right, Z up. */
function Drawing() {
  const at = (x: number, y: number, z: number): [number, number] => [
    112 - x * 52 + y * 46,
    166 + x * 26 + y * 23 - z * 48,
  ];
  type P = [number, number, number];
  const face = (points: P[], fill: string, key: string) => (
    <polygon
      key={key}
      points={points.map((p) => at(...p).join(",")).join(" ")}
      fill={fill}
      stroke="currentColor"
      strokeWidth={1}
      strokeLinejoin="round"
    />
  );
  const cuboid = ([a, b, c]: P, [d, e, f]: P, tone: string, key: string) => (
    <g key={key} className={tone}>
      {face(
        [
          [a, b, f],
          [d, b, f],
          [d, e, f],
          [a, e, f],
        ],
        "var(--fill-top)",
        `${key}t`,
      )}
      {face(
        [
          [d, b, c],
          [d, e, c],
          [d, e, f],
          [d, b, f],
        ],
        "var(--fill-x)",
        `${key}x`,
      )}
      {face(
        [
          [a, e, c],
          [d, e, c],
          [d, e, f],
          [a, e, f],
        ],
        "var(--fill-y)",
        `${key}y`,
      )}
    </g>
  );
  const body =
    "[--fill-top:var(--color-base-100)] [--fill-x:var(--color-base-200)] [--fill-y:var(--color-base-300)]";
  const mark =
    "[--fill-top:var(--color-primary)] [--fill-x:var(--color-primary)] [--fill-y:var(--color-primary)]";
  const label = (x: number, y: number, text: string) => (
    <text x={x} y={y} fontSize={13} fontWeight={600} textAnchor="middle" fill="currentColor">
      {text}
    </text>
  );
  return (
    <svg
      viewBox="0 0 240 262"
      className="w-full"
      role="img"
      aria-label="The yardstick: one block at the end of X, two at the end of Y, three at the end of Z"
    >
      {cuboid([0, 0, 0], [0.8, 1.8, 2.8], body, "body")}
      {[0, 1, 2].map((k) => cuboid([0.1 + 0.25 * k, 0.1, 2.8], [0.25 + 0.25 * k, 0.3, 3], mark, `z${k}`))}
      {cuboid([0.8, 0.1, 0.1], [1, 0.25, 0.3], mark, "x0")}
      {[0, 1].map((k) => cuboid([0.1, 1.8, 0.1 + 0.25 * k], [0.3, 2, 0.25 + 0.25 * k], mark, `y${k}`))}
      {label(42, 212, "X 1 m")}
      {label(212, 232, "Y 2 m")}
      {label(36, 90, "Z 3 m")}
    </svg>
  );
}
