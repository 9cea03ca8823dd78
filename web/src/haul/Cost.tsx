// What a frame costs: totals, what costs most, ways to let parts travel side by side, and steps that meet a budget.
import { Check, Plus } from "lucide-react";
import { useState } from "react";
import { type Answer, api, type Budget, type Haul, type StepData, type StepKind } from "../api/client";
import { useCostly, usePrice } from "../api/hooks";
import { bytes, count, figure, plural, small } from "../shared/format";
import { tell } from "../shared/messages";
import { ended } from "../view/load";
import { withMend } from "./mend";
import { identitiesOf, useView } from "./selection";

const GROUPS = ["part", "mesh", "material", "layer"] as const;
const BYS = ["parent", "layer", "material", "cell", "all"] as const;
export type CostGroup = (typeof GROUPS)[number];

/** Of a frame, in one unit so that figures can be compared. */
const micros = (us: number) => `${small(us / 1000, 3)} ms`;

type Props = { haul: Haul; kinds: StepKind[]; busy: boolean; onSteps: (steps: StepData[]) => void };

export function Cost(props: Props) {
  const [open, setOpen] = useState(false);
  return (
    <details className="border-t rule" onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className="cursor-pointer bg-base-200 px-3 py-1 font-semibold">
        Cost of a frame, ways to combine, budget
      </summary>
      {open && <Opened {...props} />}
    </details>
  );
}

function Opened({ haul, kinds, busy, onSteps }: Props) {
  const scene = (haul.result ?? haul.source)?.id ?? "";
  const [answer, setAnswer] = useState<Answer | null>(null);
  const [asking, setAsking] = useState<AbortController | null>(null);
  const { selected } = useView();
  const chosen = identitiesOf(selected);
  const ask = (begin: () => ReturnType<typeof api.job>) => {
    const stop = new AbortController();
    setAsking(stop);
    setAnswer(null);
    begin()
      .then((job) => ended(job, stop.signal))
      .then((id) => api.answer(id))
      .then(setAnswer)
      .catch((error: Error) => !stop.signal.aborted && tell("error", error.message))
      .finally(() => setAsking(null));
  };
  const add = (steps: readonly Record<string, unknown>[]) =>
    onSteps(
      steps.reduce<StepData[]>((route, step) => {
        const base = kinds.find((k) => k.kind === step.kind)?.defaults;
        return base ? withMend(route, { step: { ...base, ...step } as StepData, given: [] }, kinds) : route;
      }, haul.route.steps ?? []),
    );
  return (
    <div className="flex flex-col gap-2 px-3 py-2">
      <Totals scene={scene} />
      <Most scene={scene} />
      <div className="grid grid-cols-2 items-start gap-3">
        <Ways
          parts={chosen.length}
          busy={!!asking}
          onAsk={(by) => ask(() => api.alternatives(scene, chosen.length ? { parts: chosen } : {}, by))}
        />
        <BudgetForm busy={!!asking} onAsk={(b) => ask(() => api.plan(scene, b))} />
      </div>
      {asking && (
        <p role="status" className="flex items-center gap-2">
          <span className="loading loading-spinner loading-xs" /> Trying ways on the whole scene …
          <button type="button" className="btn btn-xs" onClick={() => asking.abort()}>
            Cancel
          </button>
        </p>
      )}
      {answer?.alternatives && (
        <Alternatives rows={answer.alternatives} busy={busy} onAdd={(steps) => add(steps)} />
      )}
      {answer?.plan && (
        <PlanTable plan={answer.plan} busy={busy} onAdd={() => add(answer.plan?.steps ?? [])} />
      )}
    </div>
  );
}

function Totals({ scene }: { scene: string }) {
  const { data: p, error } = usePrice(scene);
  if (error) return <p className="text-error">{error.message}</p>;
  if (!p) return <p className="opacity-80">Adding it up …</p>;
  const facts: [string, string][] = [
    ["A frame, estimated", micros(p.frameUs)],
    ["Draw calls", count(p.drawCalls)],
    ["With instancing", count(p.drawCallsInstanced)],
    ["Triangles", count(p.triangles)],
    ["Vertices and indices", bytes(p.vertexBytes + p.indexBytes)],
    ["Instance buffers", bytes(p.instanceBytes)],
    ["Image files", bytes(p.textureBytes)],
    ["Lightmaps", bytes(p.lightmapBytes)],
  ];
  return (
    <>
      <dl className="grid grid-cols-4 gap-x-4 gap-y-1">
        {facts.map(([label, value]) => (
          <div key={label} className="min-w-0">
            <dt className="truncate text-xs opacity-80">{label}</dt>
            <dd className="truncate font-semibold">{value}</dd>
          </div>
        ))}
      </dl>
      <p className="text-xs opacity-80">
        The estimate goes by the destination's weights ({p.instanced ? "with" : "without"} instancing):{" "}
        {figure(p.weights.callUs)} µs a draw call, {figure(p.weights.trianglesUs)} µs a thousand triangles,{" "}
        {Math.round(p.weights.seen * 100)} % of the scene in view.
      </p>
    </>
  );
}

function Most({ scene }: { scene: string }) {
  const [by, setBy] = useState<CostGroup>("mesh");
  const { data, error } = useCostly(scene, by);
  const { mark } = useView();
  const most = data?.[0]?.frameUs ?? 1;
  return (
    <section aria-label="What costs most">
      <div className="flex items-center gap-2">
        <h2 className="font-semibold">Most costly</h2>
        <div className="join" role="group" aria-label="Group by">
          {GROUPS.map((g) => (
            <button
              key={g}
              type="button"
              aria-pressed={by === g}
              className={`btn join-item btn-xs capitalize ${by === g ? "btn-neutral" : ""}`}
              onClick={() => setBy(g)}
            >
              {g}
            </button>
          ))}
        </div>
      </div>
      {error && <p className="text-error">{error.message}</p>}
      <ol className="max-h-32 overflow-y-auto border rule">
        {data?.map((row) => (
          <li key={row.name}>
            <button
              type="button"
              className="grid w-full grid-cols-[1fr_5rem_5.5rem_6rem_5rem_4.5rem] items-center gap-2 px-2 py-0.5 text-left hover:bg-base-200"
              title={`Mark ${row.name} in the view`}
              onClick={() => mark(row.sources)}
            >
              <span className="truncate">{row.name}</span>
              <span className="text-right">{plural(row.parts, "part")}</span>
              <span className="text-right">{plural(row.drawCalls, "call")}</span>
              <span className="text-right">{count(row.triangles)} tri.</span>
              <span className="text-right">{micros(row.frameUs)}</span>
              <span className="h-2 bg-base-300" aria-hidden>
                <span
                  className="block h-2 bg-secondary"
                  style={{ width: `${(100 * row.frameUs) / most}%` }}
                />
              </span>
            </button>
          </li>
        ))}
      </ol>
    </section>
  );
}

function Ways({
  parts,
  busy,
  onAsk,
}: {
  parts: number;
  busy: boolean;
  onAsk: (by: (typeof BYS)[number]) => void;
}) {
  const [by, setBy] = useState<(typeof BYS)[number]>("parent");
  return (
    <form
      className="flex flex-wrap items-center gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        onAsk(by);
      }}
    >
      <h2 className="w-full font-semibold">Ways to combine</h2>
      <label className="flex items-center gap-2">
        by
        <select
          className="select select-sm w-32"
          value={by}
          onChange={(e) => setBy(e.target.value as typeof by)}
          aria-label="Combine by"
        >
          {BYS.map((b) => (
            <option key={b}>{b}</option>
          ))}
        </select>
      </label>
      <button type="submit" className="btn btn-sm" disabled={busy}>
        Compare {parts ? `the ${count(parts)} selected` : "all parts"}
      </button>
    </form>
  );
}

function BudgetForm({ busy, onAsk }: { busy: boolean; onAsk: (budget: Budget) => void }) {
  const [values, setValues] = useState({ drawCalls: "", triangles: "", megabytes: "" });
  const fields = [
    ["drawCalls", "draw calls"],
    ["triangles", "triangles"],
    ["megabytes", "MB"],
  ] as const;
  return (
    <form
      className="flex flex-wrap items-center gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        const number = (text: string) => Math.max(0, Number(text) || 0);
        onAsk({
          drawCalls: Math.round(number(values.drawCalls)),
          triangles: Math.round(number(values.triangles)),
          megabytes: number(values.megabytes),
          instanced: false,
        });
      }}
    >
      <h2 className="w-full font-semibold">Budget, at most</h2>
      {fields.map(([key, unit]) => (
        <label key={key} className="input input-sm w-32">
          <input
            type="number"
            min={0}
            step="any"
            value={values[key]}
            aria-label={`At most so many ${unit}`}
            onChange={(e) => setValues({ ...values, [key]: e.target.value })}
          />
          <span className="text-xs">{unit}</span>
        </label>
      ))}
      <button
        type="submit"
        className="btn btn-sm"
        disabled={busy || !Object.values(values).some((v) => Number(v) > 0)}
      >
        Find steps
      </button>
    </form>
  );
}

type AddProps = { busy: boolean; onAdd: (steps: readonly Record<string, unknown>[]) => void };

type Way = NonNullable<Answer["alternatives"]>[number];
const FIGURES: readonly (readonly [string, (way: Way) => string])[] = [
  ["Objects", ({ price }) => count(price.objects)],
  ["Draw calls", ({ price }) => count(price.drawCalls)],
  ["With instancing", ({ price }) => count(price.drawCallsInstanced)],
  ["Unique meshes", ({ price }) => count(price.uniqueMeshes)],
  ["Vertices", ({ price }) => bytes(price.vertexBytes)],
  ["Indices", ({ price }) => bytes(price.indexBytes)],
  ["Lightmaps", ({ price }) => bytes(price.lightmapBytes)],
  ["Culled as one", ({ price }) => `${small(price.boundsM3, 1)} m³`],
  ["Can be named", ({ addressable }) => addressable],
  ["Can move", ({ movable }) => movable],
  ["A frame", ({ price }) => micros(price.frameUs)],
];

function Alternatives({ rows, busy, onAdd }: { rows: Way[] } & AddProps) {
  return (
    <div>
      <table className="table-xs table table-fixed" aria-label="Ways to let the parts travel">
        <thead>
          <tr>
            <th className="w-28 px-1">Way</th>
            {rows.map(({ title, recommended }) => (
              <th
                key={title}
                className={`px-1 text-right align-bottom leading-tight whitespace-normal ${recommended ? "bg-primary/20" : ""}`}
              >
                {recommended && <Check size={12} className="mr-1 inline" aria-label="Recommended:" />}
                {title}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {FIGURES.map(([label, of]) => (
            <tr key={label}>
              <th className="px-1 py-0.5 font-normal opacity-80">{label}</th>
              {rows.map((way) => (
                <td
                  key={way.title}
                  className={`px-1 py-0.5 text-right leading-tight ${way.recommended ? "bg-primary/20" : ""} ${label === "A frame" ? "font-semibold" : ""}`}
                >
                  {of(way)}
                </td>
              ))}
            </tr>
          ))}
          <tr>
            <td />
            {rows.map(({ title, steps, recommended }) => (
              <td key={title} className={`px-1 text-right ${recommended ? "bg-primary/20" : ""}`}>
                {steps && steps.length > 0 && (
                  <button
                    type="button"
                    className="btn btn-xs"
                    disabled={busy}
                    aria-label={`Add the steps of: ${title}`}
                    onClick={() => onAdd(steps)}
                  >
                    <Plus size={12} /> Add
                  </button>
                )}
              </td>
            ))}
          </tr>
        </tbody>
      </table>
      <p className="mt-1 leading-snug">{rows.find((r) => r.recommended)?.reason}</p>
    </div>
  );
}

function PlanTable({
  plan,
  busy,
  onAdd,
}: {
  plan: NonNullable<Answer["plan"]>;
  busy: boolean;
  onAdd: () => void;
}) {
  const first = plan.prices[0];
  return (
    <section aria-label="Steps towards the budget">
      <table className="table table-xs">
        <thead>
          <tr>
            {["After", "Draw calls", "Triangles", "Vertices, indices, images", "A frame"].map((h) => (
              <th key={h} className={h === "After" ? "" : "text-right"}>
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {plan.prices.map((p, k) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: they are the steps of a plan, in their order
            <tr key={k}>
              <td>{k === 0 ? "as it is" : plan.reasons[k - 1]}</td>
              <td className="text-right">{count(p.drawCalls)}</td>
              <td className="text-right">{count(p.triangles)}</td>
              <td className="text-right">{bytes(p.vertexBytes + p.indexBytes + p.textureBytes)}</td>
              <td className="text-right whitespace-nowrap">{micros(p.frameUs)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-1 flex items-center gap-2">
        {plan.met
          ? plan.steps.length
            ? "✓ The budget is met."
            : "✓ It is within the budget as it is."
          : `✗ ${(plan.over ?? []).join("; ")}${first ? "." : ""}`}
        {plan.steps.length > 0 && (
          <button type="button" className="btn btn-xs" disabled={busy} onClick={onAdd}>
            <Plus size={12} /> Add {plural(plan.steps.length, "step")}
          </button>
        )}
      </p>
    </section>
  );
}
