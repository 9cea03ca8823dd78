// One step opened for its numbers; the fields come from the step's own schema.
import { Crosshair } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import type { StepData, StepKind, StepRecord } from "../api/client";
import { count } from "../shared/format";
import { NumberInput } from "../shared/NumberInput";
import { Sentence } from "../shared/Sentence";
import { counts, parameterOf } from "./mend";
import { useView } from "./selection";

type Field = {
  type?: string;
  title?: string;
  description?: string;
  unit?: string;
  pick?: "x" | "y" | "z" | "points";
  /** Values of other parameters with which it counts. */
  only?: Record<string, unknown[]>;
  default?: unknown;
  enum?: string[];
  anyOf?: Field[];
  /** Of a list: what each of its entries is made of. */
  items?: { properties?: Record<string, Field> };
  minimum?: number;
  maximum?: number;
  exclusiveMinimum?: number;
  exclusiveMaximum?: number;
  maxLength?: number;
};

type Props = {
  kind: StepKind;
  step: StepData;
  record: StepRecord | undefined;
  sets: string[];
  busy: boolean;
  /** Rows that bring a place of the view to the axes of the result; null while the view shows no result. */
  axes: number[][] | null;
  onClose: () => void;
  /** failed hears why it could not be saved. */
  onSave: (step: StepData, failed: (why: string) => void) => void;
};

const words = (key: string) => key.replace(/([A-Z])/g, " $1").toLowerCase();

export function StepEditor({ kind, step, record, sets, busy, axes, onClose, onSave }: Props) {
  const dialog = useRef<HTMLDialogElement>(null);
  const [draft, setDraft] = useState<StepData>(step);
  const [refused, setRefused] = useState("");
  const where = draft.where ?? {};
  const set = useView((v) => v.set);
  useEffect(() => dialog.current?.showModal(), []);
  const put = (key: string, value: unknown) => setDraft({ ...draft, [key]: value });
  const fields = kind.parameters as Record<string, Field>;
  const picked = Object.entries(fields).filter(([, field]) => field.pick && field.pick !== "points");
  const shown = Object.entries(fields).filter(([, field]) => counts(draft, fields, field.only));
  const along = (row: number[], place: readonly number[]) =>
    Number(row.reduce((sum, v, k) => sum + v * (place[k] ?? 0), 0).toFixed(4));
  const pick = (corners: boolean, given: (was: StepData, place: [number, number, number]) => StepData) => {
    dialog.current?.close("pick");
    set({
      stage: null,
      pair: false,
      corners,
      picking: (place) => {
        if (place) setDraft((was) => given(was, place));
        setTimeout(() => dialog.current?.showModal());
      },
    });
  };
  const onePoint = (was: StepData, place: [number, number, number]) => {
    const values = picked.map(([key, field]) => [
      key,
      along(axes?.["xyz".indexOf(field.pick ?? "x")] ?? [0, 0, 0], place),
    ]);
    return {
      ...was,
      ...("at" in was ? { at: "point" } : {}),
      ...Object.fromEntries(values),
    } as StepData;
  };
  const anotherPoint = (key: string) => (was: StepData, place: [number, number, number]) => {
    const old = (parameterOf(was, key) ?? []) as number[][];
    const point = (axes ?? []).map((row) => along(row, place));
    return { ...was, ...("by" in was ? { by: "picked" } : {}), [key]: [...old, point] } as StepData;
  };
  return (
    <dialog
      ref={dialog}
      className="modal"
      onClose={() => {
        // it steps aside while a point is picked
        if (dialog.current?.returnValue === "pick") dialog.current.returnValue = "";
        else onClose();
      }}
      aria-label={kind.title}
    >
      <form
        className="modal-box flex max-h-[80vh] w-[38rem] flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          setRefused("");
          onSave(draft, setRefused);
        }}
      >
        <div>
          <h2 className="text-base font-semibold">{kind.title}</h2>
          <p className="opacity-80">{kind.summary}</p>
        </div>
        <div className="grid grid-cols-[16rem_1fr] items-center gap-x-3 gap-y-2">
          {shown.map(([key, field]) =>
            field.pick === "points" ? (
              <Points
                key={key}
                field={field}
                points={(parameterOf(draft, key) ?? []) as number[][]}
                ready={!!axes}
                onPick={() => pick(false, anotherPoint(key))}
                onChange={(v) => put(key, v)}
              />
            ) : field.items?.properties ? (
              <Entries
                key={key}
                field={field}
                entries={(parameterOf(draft, key) ?? []) as Entry[]}
                onChange={(v) => put(key, v)}
              />
            ) : (
              <Input
                key={key}
                name={key}
                field={field}
                value={parameterOf(draft, key)}
                onChange={(v) => put(key, v)}
              />
            ),
          )}
          {picked.length > 0 && (
            <>
              <span className="text-xs leading-snug opacity-80">
                {axes
                  ? "A point of the result, a corner where one is near"
                  : "Run the route first: the point is one of its result"}
              </span>
              <button
                type="button"
                className="btn btn-sm"
                disabled={!axes}
                onClick={() => pick(true, onePoint)}
              >
                <Crosshair size={14} aria-hidden /> Pick the point in the view
              </button>
            </>
          )}
          <label className="contents">
            <span>Only parts named</span>
            <input
              className="input input-sm w-full"
              placeholder="all; or bench_*, post_??"
              value={(where.names ?? []).join(", ")}
              onChange={(e) =>
                put("where", {
                  ...where,
                  names: e.target.value
                    .split(",")
                    .map((s) => s.trim())
                    .filter(Boolean),
                })
              }
            />
          </label>
          {(sets.length > 0 || !!where.sets?.length) && (
            <label className="contents">
              <span>Only parts of the set</span>
              <select
                className="select select-sm w-full"
                value={where.sets?.[0] ?? ""}
                onChange={(e) => put("where", { ...where, sets: e.target.value ? [e.target.value] : [] })}
              >
                <option value="">any part</option>
                {[...new Set([...sets, ...(where.sets ?? [])])].map((s) => (
                  <option key={s}>{s}</option>
                ))}
              </select>
            </label>
          )}
          {!!where.parts?.length && (
            <p className="col-span-2 flex items-center gap-2">
              For {count(where.parts.length)} chosen parts.
              <button
                type="button"
                className="btn btn-xs"
                onClick={() => put("where", { ...where, parts: [] })}
              >
                Use for all
              </button>
            </p>
          )}
        </div>
        {record && (
          <div className="rounded-field border rule p-2">
            <h3 className="font-semibold">In the last run</h3>
            {record.changes.length === 0 && <p>Nothing had to be changed.</p>}
            <ul className="list-disc pl-5">
              {record.changes.map((c) => (
                <li key={c.text} className={c.problem ? "text-error" : ""}>
                  <Sentence text={c.text} />
                </li>
              ))}
            </ul>
            <p className="mt-1 text-xs opacity-80">
              draw calls {count(record.before.drawCalls)} → {count(record.after.drawCalls)}, meshes{" "}
              {count(record.before.uniqueMeshes)} → {count(record.after.uniqueMeshes)}, vertices{" "}
              {count(record.before.vertices)} → {count(record.after.vertices)}
            </p>
          </div>
        )}
        {refused && (
          <p role="alert" className="text-error">
            {refused}
          </p>
        )}
        <div className="flex justify-end gap-2">
          <button type="button" className="btn btn-sm" onClick={onClose}>
            Close
          </button>
          <button type="submit" className="btn btn-primary btn-sm" disabled={busy}>
            Save
          </button>
        </div>
      </form>
    </dialog>
  );
}

type PointsProps = {
  field: Field;
  points: number[][];
  ready: boolean;
  onPick: () => void;
  onChange: (points: number[][]) => void;
};

/** Places that were clicked in the view, one after the other. */
function Points({ field, points, ready, onPick, onChange }: PointsProps) {
  return (
    <>
      <span className="self-start">
        {field.title}
        <span className="block text-xs leading-snug opacity-80">
          {ready ? field.description : "Run the route first: the points are such of its result"}
        </span>
      </span>
      <div className="flex flex-col gap-1">
        {points.map((p, k) => (
          <span key={p.join(" ")} className="flex items-center gap-2 tabular-nums">
            {p.map((v) => v.toFixed(2)).join(", ")} m
            <button
              type="button"
              className="btn btn-xs ml-auto"
              aria-label={`Remove point ${k + 1}`}
              onClick={() => onChange(points.filter((_, i) => i !== k))}
            >
              Remove
            </button>
          </span>
        ))}
        <button type="button" className="btn btn-sm" disabled={!ready} onClick={onPick}>
          <Crosshair size={14} aria-hidden />{" "}
          {points.length ? "Pick another point" : "Pick points in the view"}
        </button>
      </div>
    </>
  );
}

type Entry = { file: string } & Record<string, unknown>;
type EntriesProps = { field: Field; entries: Entry[]; onChange: (entries: Entry[]) => void };

/** What is said of files one by one; the Unit page of the Load station adds to it. */
function Entries({ field, entries, onChange }: EntriesProps) {
  return (
    <>
      <span className="col-span-2">
        {field.title}
        <span className="block text-xs leading-snug opacity-80">
          {field.description}. {entries.length === 0 && "The Unit page of the Load station names them."}
        </span>
      </span>
      {entries.map((entry) => (
        <fieldset key={entry.file} className="col-span-2 rounded-field border rule p-2">
          <legend className="flex items-center gap-2 px-1 font-semibold break-all">
            {entry.file}
            <button
              type="button"
              className="btn btn-xs"
              aria-label={`Read ${entry.file} as it says`}
              onClick={() => onChange(entries.filter((e) => e !== entry))}
            >
              Remove
            </button>
          </legend>
          <div className="grid grid-cols-[14rem_1fr] items-center gap-x-3 gap-y-2">
            {Object.entries(field.items?.properties ?? {})
              .filter(([key]) => key !== "file")
              .map(([key, one]) => (
                <Input
                  key={key}
                  name={key}
                  field={one}
                  value={entry[key]}
                  onChange={(v) => onChange(entries.map((e) => (e === entry ? { ...e, [key]: v } : e)))}
                />
              ))}
          </div>
        </fieldset>
      ))}
    </>
  );
}

function Input({
  name,
  field,
  value,
  onChange,
}: {
  name: string;
  field: Field;
  value: unknown;
  onChange: (v: unknown) => void;
}) {
  const options = field.anyOf?.filter((f) => f.type !== "null");
  const inner = options?.[0] ?? field;
  const optional = !!field.anyOf?.some((f) => f.type === "null");
  const help = field.description ?? inner.description;
  const label = (
    <span className="self-start">
      {field.title ?? words(name)}
      {help && <span className="block text-xs leading-snug opacity-80">{help}</span>}
    </span>
  );
  if (inner.type === "boolean")
    return (
      <label className="contents">
        {label}
        <input
          type="checkbox"
          className="checkbox checkbox-sm"
          checked={!!value}
          onChange={(e) => onChange(e.target.checked)}
        />
      </label>
    );
  if (inner.enum)
    return (
      <label className="contents">
        {label}
        <select
          className="select select-sm w-full"
          value={String(value ?? "")}
          onChange={(e) => onChange(e.target.value || null)}
        >
          {optional && <option value="">as the file says</option>}
          {inner.enum.map((o) => (
            <option key={o}>{o}</option>
          ))}
        </select>
      </label>
    );
  if (inner.type === "string")
    return (
      <label className="contents">
        {label}
        <input
          className="input input-sm w-full"
          value={String(value ?? "")}
          maxLength={inner.maxLength}
          onChange={(e) => onChange(e.target.value || (optional ? null : ""))}
        />
      </label>
    );
  return (
    <label className="contents">
      {label}
      <span className="input input-sm w-full">
        <NumberInput
          whole={inner.type === "integer"}
          min={inner.minimum}
          max={inner.maximum}
          over={inner.exclusiveMinimum}
          under={inner.exclusiveMaximum}
          value={value as number | null | undefined}
          placeholder={optional ? "as the file says" : ""}
          onChange={onChange}
          onEmpty={optional ? () => onChange(null) : undefined}
        />
        {field.unit && <span className="opacity-80">{field.unit}</span>}
      </span>
    </label>
  );
}
