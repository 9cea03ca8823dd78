// All hauls: picture, destination, state, what is open. A file dropped anywhere begins a new one.
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { ArrowLeft, PackagePlus, Search, Trash2, Undo2 } from "lucide-react";
import { useRef, useState } from "react";
import { Link } from "react-router";
import { api, type Haul, type HaulSummary, type Problem } from "../api/client";
import { useHauls, useJobEvents } from "../api/hooks";
import { useBegin } from "../shared/DropAnywhere";
import { count, plural } from "../shared/format";
import { working } from "../shared/JobStrip";
import { tell } from "../shared/messages";
import { TopBar } from "../shared/TopBar";

export function HaulsPage() {
  const [search, setSearch] = useState("");
  const [deleted, setDeleted] = useState(false);
  const hauls = useHauls(search, deleted);
  const lost = useHauls("", true).data?.pages[0]?.total ?? 0;
  const Row = deleted ? DeletedRow : HaulRow;
  const rows = hauls.data?.pages.flatMap((page) => page.items) ?? [];
  const total = hauls.data?.pages[0]?.total ?? 0;
  useJobEvents();
  const begin = useBegin();
  const input = useRef<HTMLInputElement>(null);
  return (
    <div className="flex h-full flex-col">
      <TopBar />
      <main className="mx-auto flex w-full max-w-6xl grow flex-col gap-4 overflow-y-auto px-6 py-5">
        <div className="flex items-end justify-between gap-6">
          <div>
            <h1 className="text-xl font-semibold">{deleted ? "Deleted hauls" : "Hauls"}</h1>
            <p className="opacity-80">
              {deleted
                ? "They can be restored for some days after they were deleted."
                : "A scene on its way to an engine. Drop a file anywhere on this page to begin another."}
            </p>
          </div>
          <label className="input ml-auto w-64">
            <Search size={15} aria-hidden />
            <input
              type="search"
              value={search}
              placeholder="Name or file"
              aria-label="Search hauls"
              onChange={(e) => setSearch(e.target.value)}
            />
          </label>
          {(lost > 0 || deleted) && (
            <button type="button" className="btn" aria-pressed={deleted} onClick={() => setDeleted(!deleted)}>
              {deleted ? (
                <>
                  <ArrowLeft size={16} /> All hauls
                </>
              ) : (
                `Deleted (${count(lost)})`
              )}
            </button>
          )}
          <button type="button" className="btn btn-primary" onClick={() => input.current?.click()}>
            <PackagePlus size={16} /> New haul from files
          </button>
          <input
            ref={input}
            type="file"
            multiple
            className="hidden"
            aria-label="Scene files"
            onChange={(e) => {
              begin.mutate([...(e.target.files ?? [])]);
              e.target.value = "";
            }}
          />
        </div>
        {hauls.isPending && <p role="status">Loading the list …</p>}
        {hauls.error && (
          <p role="alert" className="text-error">
            {hauls.error.message}
          </p>
        )}
        {hauls.data &&
          total === 0 &&
          (search ? <p>No haul fits “{search}”.</p> : deleted ? <p>None is deleted.</p> : <Nothing />)}
        <ul className="flex flex-col gap-2">
          {rows.map((h) => (
            <Row key={h.id} haul={h} />
          ))}
        </ul>
        {hauls.hasNextPage && (
          <button
            type="button"
            className="btn btn-sm self-center"
            disabled={hauls.isFetchingNextPage}
            onClick={() => hauls.fetchNextPage()}
          >
            {hauls.isFetchingNextPage ? "Loading …" : `Show more: ${rows.length} of ${count(total)} shown`}
          </button>
        )}
      </main>
    </div>
  );
}

function Nothing() {
  return (
    <div className="grid grow place-items-center rounded-box border-2 border-dashed rule text-center">
      <div>
        <p className="text-lg font-semibold">No haul yet</p>
        <p className="opacity-80">
          Drop glTF, OpenUSD, COLLADA, IFC, OBJ, PLY or STL files with their textures, a folder, or a zip of
          them.
        </p>
      </div>
    </div>
  );
}

/** Deletes a haul, or restores a deleted one; says so, with a way back where there is one. */
function useDeletion(haul: HaulSummary) {
  const client = useQueryClient();
  const fresh = () => client.invalidateQueries({ queryKey: ["hauls"] });
  const onError = (p: Problem) => tell("error", p.message);
  const restore = useMutation<Haul, Problem>({
    mutationFn: () => api.restore(haul.id),
    onSuccess: (h) => {
      tell("info", `“${h.name}” is restored.`);
      return fresh();
    },
    onError,
  });
  const remove = useMutation<void, Problem>({
    mutationFn: async () => api.remove(await api.haul(haul.id)),
    onSuccess: () => {
      // this row is gone by then, and its mutations with it
      const back = () => api.restore(haul.id).then(fresh, onError);
      tell("info", `“${haul.name}” is deleted.`, { word: "Undo", run: back });
      return fresh(); // it cannot be deleted again while it is still listed
    },
    onError,
  });
  const removeForGood = useMutation<void, Problem>({
    mutationFn: () => api.remove(haul, true),
    onSuccess: fresh,
    onError,
  });
  return { remove, restore, removeForGood };
}

function HaulRow({ haul }: { haul: HaulSummary }) {
  const { remove } = useDeletion(haul);
  return (
    <li className="flex items-stretch gap-4 rounded-box border rule bg-base-100 p-2 focus-within:border-secondary hover:border-secondary">
      <Link to={`/hauls/${haul.id}/survey`} className="flex min-w-0 grow items-stretch gap-4">
        <Told haul={haul} />
        <div className="flex w-52 shrink-0 flex-col justify-center">
          <span className="font-medium">{stateText(haul)}</span>
          <span className="opacity-80">{openText(haul)}</span>
        </div>
      </Link>
      <button
        type="button"
        className="btn btn-ghost btn-sm btn-square self-center"
        aria-label={`Delete ${haul.name}`}
        title="Delete"
        disabled={haul.job?.state === "running" || remove.isPending}
        onClick={() => remove.mutate()}
      >
        <Trash2 size={15} />
      </button>
    </li>
  );
}

function DeletedRow({ haul }: { haul: HaulSummary }) {
  const { restore, removeForGood } = useDeletion(haul);
  const busy = restore.isPending || removeForGood.isPending;
  return (
    <li className="flex items-stretch gap-4 rounded-box border rule bg-base-100 p-2">
      <Told haul={haul} />
      <span className="w-40 shrink-0 self-center opacity-80">
        deleted {haul.deleted && new Date(haul.deleted).toLocaleString("en-GB", WHEN)}
      </span>
      <button
        type="button"
        className="btn btn-sm self-center"
        disabled={busy}
        onClick={() => restore.mutate()}
        aria-label={`Restore ${haul.name}`}
      >
        <Undo2 size={15} /> Restore
      </button>
      <button
        type="button"
        className="btn btn-ghost btn-sm self-center"
        disabled={busy}
        aria-label={`Delete ${haul.name} for good`}
        onClick={() => {
          if (window.confirm(`Delete the haul “${haul.name}” for good, with its runs and packages?`))
            removeForGood.mutate();
        }}
      >
        Delete for good
      </button>
    </li>
  );
}

/** What a haul is: picture, name, file, size and destination. */
function Told({ haul }: { haul: HaulSummary }) {
  const c = haul.counts;
  const [failed, setFailed] = useState<string | null>(null);
  return (
    <>
      <div className="h-[81px] w-36 shrink-0 overflow-hidden rounded-field border rule bg-base-200">
        {haul.picture && failed !== haul.picture ? (
          <img
            src={haul.picture}
            alt={haul.name}
            className="size-full object-cover"
            onError={() => setFailed(haul.picture)}
          />
        ) : haul.picture ? (
          <span className="grid size-full place-items-center p-2 text-center text-xs">
            The image could not be loaded
          </span>
        ) : (
          <div className="hatch size-full opacity-20" aria-hidden />
        )}
      </div>
      <div className="flex min-w-0 grow flex-col justify-center">
        <h2 className="truncate text-base font-semibold">{haul.name}</h2>
        <p className="truncate opacity-80">{haul.sourceName}</p>
        <p className="mt-1 line-clamp-2">
          {c
            ? `${plural(c.parts, "part")} of ${plural(c.uniqueMeshes, "mesh", "meshes")} · ${count(c.triangles)} triangles · ${count(c.drawCalls)} draw calls`
            : ""}
        </p>
      </div>
      <div className="flex w-48 shrink-0 flex-col justify-center">
        <span className="text-xs opacity-80">to</span>
        <span className="truncate">{haul.destinationTitle}</span>
      </div>
    </>
  );
}

const WHEN = { day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" } as const;

function stateText(h: HaulSummary): string {
  if (working(h.job)) return "at work …";
  if (h.job?.state === "failed") return `${h.job.kind} failed`;
  return {
    "no source": "no source",
    surveyed: "surveyed, not run",
    run: "run, not packed",
    packed: "packed, not proven",
    arrived: "✓ arrived as it left",
    "arrived with faults": "✗ arrived with faults",
  }[h.open.state] as string;
}

function openText(h: HaulSummary): string {
  if (h.job?.state === "failed") return h.job.problem?.title ?? "";
  return h.open.survey ? `${plural(h.open.survey, "finding")} open` : h.counts ? "nothing open" : "";
}
