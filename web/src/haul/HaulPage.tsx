// One haul: trail across the top, ledger as the main thing, view beside it, tape below.
import { useQueries } from "@tanstack/react-query";
import { Ruler, Search } from "lucide-react";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, asRead, type Finding, type Mend, type PartSet, type StepData } from "../api/client";
import {
  placesOf,
  useDestinations,
  useEdit,
  useFindings,
  useHaul,
  useJobEvents,
  usePlaces,
  useStart,
  useStepKinds,
  useTurnBack,
} from "../api/hooks";
import { count } from "../shared/format";
import { JobStrip, working } from "../shared/JobStrip";
import { useShortcut } from "../shared/keys";
import { tell } from "../shared/messages";
import { Pane } from "../shared/Pane";
import { typing } from "../shared/Shortcuts";
import { TopBar } from "../shared/TopBar";
import { UndoRedo } from "../shared/UndoRedo";
import { useDebounced } from "../shared/useDebounced";
import { lensOf } from "../view/lenses";
import { ViewPanel } from "../view/ViewPanel";
import {
  ArrivalLedger,
  FindingsLedger,
  GroupsLedger,
  MaterialsLedger,
  MeshesLedger,
  PartsLedger,
} from "./ledgers";
import { forThose, hasSet, isOnTape, withMend, withSet } from "./mend";
import { around, identitiesOf, nameOf, useView } from "./selection";
import { filterQuery, ROWS, useShown } from "./shown";
import { STATIONS, stationOf } from "./stationList";
import { Tape } from "./Tape";
import { Trail } from "./Trail";

export function HaulPage() {
  const { haulId = "", station: raw } = useParams();
  const station = stationOf(raw);
  const navigate = useNavigate();
  const query = useHaul(haulId);
  useJobEvents(haulId);
  const haul = query.data;
  const start = useStart(haul);
  const edit = useEdit(haul);
  const turn = useTurnBack(haul);
  const kinds = useStepKinds().data ?? [];
  const destinations = useDestinations().data ?? [];
  const [typed, setTyped] = useState("");
  const search = useDebounced(typed);
  const { rows, filter, show, reset } = useShown();
  const searchBox = useRef<HTMLInputElement>(null);
  const { selected, select, mark, look, clear, set } = useView();

  const arrive = station.about === "arrival";
  const routed = haul?.result && station.about !== "source";
  const asSource = haul?.reading ? "source, as the route reads it" : "source";
  const about = arrive ? "source against arrived" : routed ? "after the route" : asSource;
  const scene = station.about === "source" ? haul?.source : (haul?.result ?? haul?.source);
  const { data: findings, error: unfound } = useFindings(
    haul,
    scene && scene.id === haul?.result?.id ? "result" : "source",
  );
  const titles = useMemo(() => new Map(kinds.map((k) => [k.kind, k.title])), [kinds]);
  // one change after the other: the next is made over what the server has answered
  const busy = working(haul?.job) || start.isPending || edit.isPending || turn.isPending;
  const steps = haul?.route.steps ?? [];

  const { mutate: begin } = start;
  const run = useCallback(() => begin(() => api.run(haulId)), [begin, haulId]);
  const sets = haul?.route.sets ?? [];
  const left = haul?.route.left ?? [];
  const setRoute = (next: StepData[], done?: (why?: string) => void) =>
    edit.mutate(
      { route: { steps: next, sets, left } },
      { onSettled: (_, problem) => done?.(problem?.message) },
    );
  const setSets = (next: PartSet[]) => edit.mutate({ route: { steps, sets: next, left } });
  const mend = ({ step, given, set: proposal }: Mend, those = false) => {
    if (proposal) setSets(withSet(sets, proposal));
    else if (step && those)
      setRoute(withMend(steps, forThose({ step, given: given ?? [] }, identitiesOf(selected)), kinds));
    else if (step) setRoute(withMend(steps, { step, given: given ?? [] }, kinds));
  };
  const leave = ({ code }: Finding, because: string | null, those: boolean) => {
    const others = left.filter((l) => l.code !== code);
    const parts = those ? identitiesOf(selected) : [];
    const now = because === null ? others : [...(those ? left : others), { code, because, parts }];
    edit.mutate({ route: { steps, sets, left: now } });
  };
  const onTape = ({ step, given, set: proposal }: Mend) =>
    proposal ? hasSet(sets, proposal) : !!step && isOnTape(steps, { step, given: given ?? [] }, kinds);

  // a new haul begins with nothing selected and the lens of its station
  useEffect(() => {
    void haulId;
    clear();
    set({ figure: null, placing: false });
    reset();
    setTyped("");
  }, [haulId, clear, set, reset]);
  useEffect(() => {
    set({ lens: station.lens, pair: !!station.pair, stage: null, level: 0 });
    show({ filter: null });
  }, [station, set, show]);
  // a run that is gone has no steps to be looked at
  const runId = haul?.run?.id;
  useEffect(() => {
    void runId;
    set({ stage: null });
  }, [runId, set]);
  // another version of the source: what is selected is selected still, under its new number
  const sourceId = haul?.source?.id;
  const known = useRef(sourceId);
  useEffect(() => {
    const before = known.current;
    known.current = sourceId;
    const names = identitiesOf(useView.getState().selected);
    if (!before || !sourceId || before === sourceId || !names.length) return;
    api.namedParts(sourceId, names).then(
      ({ items, gone }) => {
        select(
          items.map(nameOf),
          items.map((p) => [nameOf(p), p.source]),
        );
        if (gone.length)
          tell("info", `Not in the files any more, of what was selected: ${count(gone.length)}.`);
      },
      (error: Error) => {
        clear();
        tell("error", error.message);
      },
    );
  }, [sourceId, select, clear]);
  // a finding that a run has settled narrows nothing any more
  useEffect(() => {
    if (filter?.by === "finding" && findings && !findings.some((f) => f.id === filter.value))
      show({ filter: null });
  }, [filter, findings, show]);
  // what narrows the ledger is marked in the view, and the view goes there
  const sceneId = scene && asRead(haul, scene.id);
  useEffect(() => {
    let current = true;
    mark(null);
    if (filter && sceneId)
      api.picked(sceneId, new URLSearchParams(filterQuery(filter))).then(
        (p) => {
          if (!current || !p.sources.length) return;
          mark(p.sources);
          look(around(p));
        },
        (error) => current && tell("error", `What is marked in the view: ${error.message}`),
      );
    return () => {
      current = false;
    };
  }, [filter, sceneId, mark, look]);
  // a lens about a kind of fault marks the parts that findings of it name
  const lens = useView((v) => v.lens);
  const faults = lensOf(lens)?.findings;
  const named = useMemo(
    () => (findings ?? []).filter((f) => f.partCount && faults?.some((code) => f.code.startsWith(code))),
    [findings, faults],
  );
  useEffect(() => {
    if (!faults || filter || !sceneId) return;
    let current = true;
    Promise.all(named.map((f) => api.picked(sceneId, new URLSearchParams({ finding: f.id })))).then(
      (all) => {
        const sources = all.flatMap((p) => p.sources);
        if (current && sources.length) mark(sources);
      },
      (error) => current && tell("error", `What is marked in the view: ${error.message}`),
    );
    return () => {
      current = false;
      mark(null);
    };
  }, [faults, named, filter, sceneId, mark]);
  const { data: ofChosen } = usePlaces(
    findings?.find((f) => filter?.by === "finding" && f.id === filter.value),
  );
  const ofLens = useQueries({
    queries: named.map((f) => ({ ...placesOf(f), meta: { asked: `Places of “${f.title}”` } })),
    combine: (all) => all.flatMap((one) => one.data ?? []),
  });
  useEffect(() => {
    const lines = (ofChosen ?? ofLens).flatMap((p) => p.lines);
    set({ places: lines.length ? lines : null });
    return () => set({ places: null });
  }, [ofChosen, ofLens, set]);
  useShortcut("station", (key) => {
    const to = STATIONS[Number(key) - 1];
    if (to) navigate(`/hauls/${haulId}/${to.id}`);
  });
  useShortcut("search", () => searchBox.current?.focus());
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      if (typing(e.target)) {
        if (e.key === "Escape") (e.target as HTMLElement).blur();
        return;
      }
      if (e.key === "Escape" && !document.querySelector("dialog[open]")) {
        clear();
        show({ filter: null });
      }
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [clear, show]);

  const chooseFinding = (next: Finding | null) =>
    show(
      next?.partCount
        ? { rows: "parts", filter: { by: "finding", value: next.id, text: next.title } }
        : { filter: null },
    );

  if (query.error)
    return (
      <div className="flex h-full flex-col">
        <TopBar />
        <div role="alert" className="grid grow place-items-center text-center">
          <div>
            <p className="text-lg font-semibold">{query.error.message}</p>
            <Link to="/" className="btn btn-sm mt-3">
              All hauls
            </Link>
          </div>
        </div>
      </div>
    );
  if (!haul)
    return (
      <div className="flex h-full flex-col">
        <TopBar />
        <p role="status" className="p-6">
          Loading the haul …
        </p>
      </div>
    );

  const proven = Object.values(haul.destination.importers).some((i) => i.proof);
  const failed = haul.job?.state === "failed" ? haul.job.problem : null;
  return (
    <div className="flex h-full flex-col overflow-hidden">
      <TopBar>
        <h1 className="min-w-0 truncate font-semibold">{haul.name}</h1>
        <label className="flex shrink-0 items-center gap-1.5">
          <span className="opacity-80">to</span>
          <select
            className="select select-sm w-56"
            aria-label="Destination"
            value={haul.destination.name}
            disabled={busy}
            onChange={(e) => edit.mutate({ destination: e.target.value })}
          >
            {!destinations.some((d) => d.name === haul.destination.name) && (
              <option value={haul.destination.name}>{haul.destination.title}</option>
            )}
            {destinations.map((d) => (
              <option key={d.name} value={d.name}>
                {d.title}
              </option>
            ))}
          </select>
        </label>
        <Link
          to={`/destinations/${haul.destination.name}`}
          className="btn btn-sm shrink-0"
          title="Prove this destination with the yardstick"
        >
          <Ruler size={14} /> {proven ? "proven" : "prove it"}
        </Link>
        <span className="grow" />
        <UndoRedo
          changes={haul}
          done={turn.isSuccess ? turn.variables : undefined}
          busy={busy}
          onTurn={turn.mutate}
        />
        {haul.job && working(haul.job) && <JobStrip job={haul.job} />}
      </TopBar>
      <Trail haul={haul} />
      {failed && (
        <p role="alert" className="shrink-0 border-b border-error bg-base-100 px-3 py-1.5 text-error">
          ✗ {failed.title}
        </p>
      )}
      <div className="grid min-h-0 grow grid-cols-[minmax(0,1.4fr)_minmax(0,1fr)]">
        <main className="flex min-h-0 min-w-0 flex-col border-r rule">
          <div
            className={`shrink-0 overflow-y-auto border-b rule bg-base-100 ${station.tall}`}
            tabIndex={0}
            role="region"
            aria-label={`${station.id} station`}
          >
            <Pane key={station.id} name="This station">
              {station.show({
                haul,
                // before the kinds of steps are known nothing can be put on the tape
                busy: busy || !kinds.length,
                kinds,
                titles,
                findings: scene ? findings : undefined,
                unfound: unfound?.message ?? "",
                chosen: filter?.by === "finding" ? filter.value : null,
                onChoose: chooseFinding,
                onMend: mend,
                onLeave: leave,
                selected: identitiesOf(selected).length,
                onTape,
                onSteps: setRoute,
                onSets: setSets,
                onFiles: (files) => begin(() => api.addFiles(haulId, files)),
                onRemoveFile: (path) => begin(() => api.removeFile(haulId, path)),
                onPack: (f) => begin(() => api.pack(haulId, f)),
                onArrive: () => begin(() => api.arrive(haulId)),
              })}
            </Pane>
          </div>
          <div className="flex h-9 shrink-0 items-center gap-2 border-b rule bg-base-200 px-2">
            {!arrive && (
              <div className="join shrink-0" role="group" aria-label="Rows of the ledger">
                {ROWS.map((r) => (
                  <button
                    key={r}
                    type="button"
                    aria-pressed={rows === r}
                    className={`btn join-item btn-sm px-2 capitalize ${rows === r ? "btn-neutral" : ""}`}
                    onClick={() => show({ rows: r })}
                  >
                    {r}
                  </button>
                ))}
              </div>
            )}
            <label className="input input-sm w-40 min-w-24">
              <Search size={13} aria-hidden />
              <input
                ref={searchBox}
                type="search"
                placeholder="Search"
                aria-label="Search in the ledger"
                value={typed}
                onChange={(e) => setTyped(e.target.value)}
              />
            </label>
            {filter && !arrive && (rows === "parts" || filter.by === "under") && (
              <Chip text={filter.text} onClose={() => show({ filter: null })} />
            )}
            <span className="grow" />
            {selected.size > 0 && (
              <button type="button" className="btn btn-ghost btn-xs" onClick={clear}>
                {selected.size} selected ×
              </button>
            )}
            <span className="max-w-44 shrink-0 truncate text-xs opacity-80" title={about}>
              {about}
            </span>
          </div>
          <Pane key={`${station.id} ${rows}`} name="The ledger">
            {arrive ? (
              haul.arrival ? (
                <ArrivalLedger id={haul.arrival.id} sceneId={haul.run?.sceneId ?? ""} search={search} />
              ) : (
                <Blank text="Nothing has been compared yet." />
              )
            ) : !sceneId ? (
              <Blank
                text={
                  busy
                    ? "The scene is being read; rows appear when it is done."
                    : "No source yet. Drop a scene file."
                }
              />
            ) : rows === "parts" ? (
              <PartsLedger
                key={sceneId}
                sceneId={sceneId}
                search={search}
                filter={filter}
                light={!!station.light}
              />
            ) : rows === "tree" || rows === "layers" ? (
              <GroupsLedger
                key={sceneId + rows}
                sceneId={sceneId}
                search={search}
                filter={rows === "tree" && filter?.by === "under" ? filter : null}
                by={rows === "tree" ? "tree" : "layer"}
              />
            ) : rows === "meshes" ? (
              <MeshesLedger key={sceneId} sceneId={sceneId} search={search} />
            ) : rows === "materials" ? (
              <MaterialsLedger key={sceneId} sceneId={sceneId} search={search} />
            ) : (
              <FindingsLedger
                key={sceneId}
                findings={findings ?? []}
                unfound={unfound?.message ?? ""}
                search={search}
                onChoose={chooseFinding}
              />
            )}
          </Pane>
        </main>
        <Pane name="The view">
          <ViewPanel haul={haul} arrive={arrive} load={station.about === "source"} />
        </Pane>
      </div>
      <Pane name="The tape">
        <Tape
          haul={haul}
          showsResult={!!haul.result && station.about === "result"}
          kinds={kinds}
          busy={busy || !kinds.length}
          onRoute={setRoute}
          onRun={run}
        />
      </Pane>
    </div>
  );
}

function Chip({ text, onClose }: { text: string; onClose: () => void }) {
  return (
    <button type="button" className="btn btn-xs max-w-48" onClick={onClose} title="Show all again">
      <span className="truncate">{text}</span> ×
    </button>
  );
}

const Blank = ({ text }: { text: string }) => (
  <p className="grid grow place-items-center bg-base-100 opacity-80">{text}</p>
);
