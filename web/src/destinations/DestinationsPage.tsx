// Destinations: conventions of the receiving side, copied, edited, carried as JSON, and proven with the yardstick.
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Copy, Download, Trash2, Undo2, Upload } from "lucide-react";
import { useRef, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, type Destination, type Problem, type Way } from "../api/client";
import { useChangesOf, useDeletedDestinations, useDestinations } from "../api/hooks";
import { tell } from "../shared/messages";
import { TopBar } from "../shared/TopBar";
import { UndoRedo } from "../shared/UndoRedo";
import { DestinationForm, MAPS } from "./DestinationForm";
import { Yardstick } from "./Yardstick";

const unit = (metres: number) =>
  ({ 0.001: "millimetre", 0.01: "centimetre", 0.0254: "inch", 0.3048: "foot", 1: "metre" })[metres] ??
  `${metres} m`;

export function freeName(wanted: string, taken: string[]): string {
  let name = wanted;
  for (let k = 2; taken.includes(name); k++) name = `${wanted}-${k}`;
  return name;
}

export function DestinationsPage() {
  const { name } = useParams();
  const navigate = useNavigate();
  const client = useQueryClient();
  const query = useDestinations();
  const all = query.data ?? [];
  const chosen = all.find((d) => d.name === name) ?? all[0];
  const input = useRef<HTMLInputElement>(null);
  const [editing, setEditing] = useState(false);
  const keep = useMutation<Destination, Problem, Destination>({
    mutationFn: api.keepDestination,
    onSuccess: (d) => {
      client.invalidateQueries({ queryKey: ["destinations"] });
      setEditing(false);
      navigate(`/destinations/${d.name}`);
    },
    onError: (p) => tell("error", p.message),
  });
  const restore = useMutation<Destination, Problem, string>({
    mutationFn: api.restoreDestination,
    onSuccess: (d) => {
      client.invalidateQueries({ queryKey: ["destinations"] });
      navigate(`/destinations/${d.name}`);
    },
    onError: (p) => tell("error", p.message),
  });
  const drop = useMutation<void, Problem, Destination>({
    mutationFn: (d) => api.dropDestination(d.name),
    onSuccess: async (_, d) => {
      const run = () => restore.mutate(d.name);
      tell("info", `“${d.title}” is deleted. Hauls keep the copy they carry.`, { word: "Undo", run });
      client.invalidateQueries({ queryKey: ["destinations", "deleted"] });
      navigate("/destinations");
      // it cannot be deleted again while it is still listed; what could be undone of it is not to be asked for any more
      await client.invalidateQueries({ queryKey: ["destinations"], exact: true });
    },
    onError: (p) => tell("error", p.message),
  });
  const turn = useMutation<Destination, Problem, Way>({
    mutationFn: (way) => api.turnBackDestination(chosen?.name ?? "", way),
    onSuccess: () => client.invalidateQueries({ queryKey: ["destinations"] }),
    onError: (p) => tell("error", p.message),
  });
  const changes = useChangesOf(chosen).data;
  const deleted = useDeletedDestinations().data ?? [];
  const names = all.map((d) => d.name);
  const copy = (d: Destination) =>
    keep.mutate({
      ...d,
      name: freeName(`${d.name}-copy`, names),
      title: `${d.title} (copy)`.slice(0, 120),
      builtIn: false,
    });
  const take = async (file: File) => {
    try {
      const data = JSON.parse(await file.text()) as Destination;
      keep.mutate({ ...data, name: freeName(String(data.name), names), builtIn: false });
    } catch {
      tell("error", `“${file.name}” is no JSON; export a destination here to see what one looks like.`);
    }
  };
  return (
    <div className="flex h-full flex-col overflow-hidden">
      <TopBar>
        <h1 className="font-semibold">Destinations</h1>
      </TopBar>
      <main className="grid min-h-0 grow grid-cols-[21rem_minmax(0,1fr)]">
        <section
          aria-label="List of destinations"
          className="flex min-h-0 flex-col border-r rule bg-base-200"
        >
          <div className="flex items-center gap-2 border-b rule px-3 py-1.5">
            <span className="grow opacity-80">{all.length} known</span>
            <button type="button" className="btn btn-sm" onClick={() => input.current?.click()}>
              <Upload size={14} /> Import JSON
            </button>
            <input
              ref={input}
              type="file"
              hidden
              accept=".json,application/json"
              aria-label="Destination as JSON"
              onChange={(e) => {
                const file = e.target.files?.[0];
                if (file) take(file);
                e.target.value = "";
              }}
            />
          </div>
          {query.isPending && <p className="p-3">Loading the list …</p>}
          {query.error && (
            <p role="alert" className="p-3 text-error">
              {query.error.message}
            </p>
          )}
          <ul className="min-h-0 overflow-y-auto">
            {all.map((d) => {
              const proofs = Object.values(d.importers).filter((i) => i.proof).length;
              return (
                <li key={d.name}>
                  <Link
                    to={`/destinations/${d.name}`}
                    onClick={() => setEditing(false)}
                    aria-current={d === chosen ? "page" : undefined}
                    className={`block border-b rule px-3 py-1.5 ${d === chosen ? "bg-base-100" : "hover:bg-base-100"}`}
                  >
                    <span className="block truncate font-semibold">{d.title}</span>
                    <span className="block truncate opacity-80">
                      {d.builtIn ? "comes with the application" : d.name} ·{" "}
                      {proofs
                        ? `✓ proven for ${proofs} ${proofs === 1 ? "format" : "formats"}`
                        : "not proven"}
                    </span>
                  </Link>
                </li>
              );
            })}
            {deleted.map((d) => (
              <li key={d.name} className="flex items-center gap-2 border-b rule px-3 py-1.5">
                <span className="min-w-0 grow">
                  <span className="block truncate opacity-80">{d.title}</span>
                  <span className="block truncate opacity-80">deleted</span>
                </span>
                <button
                  type="button"
                  className="btn btn-xs"
                  disabled={restore.isPending || names.includes(d.name)}
                  onClick={() => restore.mutate(d.name)}
                  aria-label={`Restore ${d.title}`}
                >
                  <Undo2 size={13} /> Restore
                </button>
              </li>
            ))}
          </ul>
        </section>
        {chosen && (
          <section aria-label={chosen.title} className="min-h-0 overflow-y-auto px-5 py-3">
            <div className="flex items-center gap-2">
              <h2 className="min-w-0 grow truncate text-base font-semibold">{chosen.title}</h2>
              <button
                type="button"
                className="btn btn-sm"
                disabled={keep.isPending}
                onClick={() => copy(chosen)}
              >
                <Copy size={14} /> Copy
              </button>
              <a
                className="btn btn-sm"
                download={`${chosen.name}.json`}
                href={`data:application/json;charset=utf-8,${encodeURIComponent(JSON.stringify(chosen, null, 2))}`}
              >
                <Download size={14} /> Export JSON
              </a>
              {!chosen.builtIn && (
                <>
                  {!editing && (
                    <UndoRedo
                      changes={changes ?? { undo: "", redo: "" }}
                      done={turn.isSuccess ? turn.variables : undefined}
                      busy={keep.isPending || turn.isPending}
                      onTurn={turn.mutate}
                    />
                  )}
                  <button type="button" className="btn btn-sm" onClick={() => setEditing(!editing)}>
                    {editing ? "Cancel" : "Edit"}
                  </button>
                  <button
                    type="button"
                    className="btn btn-ghost btn-sm btn-square"
                    aria-label={`Delete ${chosen.title}`}
                    disabled={drop.isPending}
                    onClick={() => drop.mutate(chosen)}
                  >
                    <Trash2 size={15} />
                  </button>
                </>
              )}
            </div>
            {editing ? (
              <DestinationForm
                key={`form of ${chosen.name}`}
                destination={chosen}
                busy={keep.isPending}
                onKeep={(d) => keep.mutate(d)}
              />
            ) : (
              <Conventions d={chosen} />
            )}
            <Yardstick
              key={`yardstick of ${chosen.name}`}
              destination={chosen}
              busy={keep.isPending}
              onKeep={(d) =>
                keep.mutate(chosen.builtIn ? { ...d, name: freeName(`${d.name}-proven`, names) } : d)
              }
            />
          </section>
        )}
      </main>
    </div>
  );
}

function instancing(d: Destination): string {
  if (!d.gpuInstancing) return "no";
  return d.instancingFrom === 0 ? "scatters only" : `lists from ${d.instancingFrom ?? 32} copies`;
}

function Conventions({ d }: { d: Destination }) {
  const rows: [string, string][] = [
    ["One unit", unit(d.world.metresPerUnit)],
    ["Up, forward", `${d.world.up}, ${d.world.forward}`],
    ["Handedness", d.world.handedness],
    ["Negative scale", d.negativeScale ? "kept" : "refused"],
    ["Largest texture", `${d.maxTexture ?? 8192} px`],
    ["Indices", `${d.indexBits ?? 32} bits`],
    ["Names", `${d.namePattern ?? ""}, up to ${d.nameLength ?? 63}`],
    ["Lightmap channel", String(d.lightmapChannel ?? 1)],
    ["Lightmap sizes", MAPS[d.lightmapMaps ?? "powers"]],
    ["Grid cell", d.gridCell ? `${d.gridCell} m` : "inferred"],
    ["GPU instancing", instancing(d)],
  ];
  const proofs = Object.entries(d.importers).filter(([, i]) => i.proof);
  return (
    <>
      <dl className="mt-2 grid grid-cols-5 gap-x-4 gap-y-1.5">
        {rows.map(([k, v]) => (
          <div key={k} className="min-w-0">
            <dt className="text-xs opacity-80">{k}</dt>
            <dd className="truncate font-semibold" title={v}>
              {v}
            </dd>
          </div>
        ))}
      </dl>
      {proofs.length > 0 && (
        <ul className="mt-2 rounded-field border border-success px-3 py-1.5" aria-label="Proofs">
          {proofs.map(([format, habit]) => (
            <li key={format}>
              <span className="text-success">✓</span> <b>{format}</b>, {habit.proof?.date}:{" "}
              {habit.proof?.sentence}
            </li>
          ))}
        </ul>
      )}
    </>
  );
}
