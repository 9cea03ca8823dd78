// Typed calls to the server; every failure becomes a Problem with a sentence that can be shown.
import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type Haul = Schemas["HaulOut"];
export type Way = "undo" | "redo";
export type HaulSummary = Schemas["HaulSummary"];
export type Job = Schemas["JobOut"];
export type SceneInfo = Schemas["SceneOut"];
export type Part = Schemas["PartOut"];
export type MeshRow = Schemas["MeshOut"];
export type Group = Schemas["GroupOut"];
export type MaterialRow = Schemas["MaterialOut"];
export type Finding = Schemas["FindingOut"];
export type Place = Schemas["PlaceOut"];
export type ArrivalRow = Schemas["ArrivalRowOut"];
export type Destination = Schemas["Destination"];
export type StepKind = Schemas["StepKind"];
export type StepRecord = Schemas["StepRecord"];
export type Counts = Schemas["Counts"];
export type Health = Schemas["Health"];
export type Travel = Schemas["TravelOut"];
export type Candidate = Schemas["Candidate"];
export type FileUnit = Schemas["FileUnitOut"];
export type Shapes = Schemas["ShapesOut"];
export type PartSet = Schemas["PartSet"];
export type Rule = Schemas["Rule"];
export type Treatment = Schemas["Treatment"];
export type SetFigures = Schemas["SetFigures"];
export type Format = Schemas["FormatOut"];
export type Habit = Schemas["HabitOut"];
export type Answers = Schemas["Answers"];
export type Reading = Schemas["Reading"];
export type Price = Schemas["PriceOut"];
export type LightReport = Schemas["LightReport"];
export type BakeReport = Schemas["BakeReport"];
export type CostRow = Schemas["CostOut"];
export type Answer = Schemas["AnswerOut"];
export type Budget = Schemas["Budget"];
export type Mend = Schemas["MendOut"];
export type Proposed = Schemas["ProposedOut"];
export type SetProposal = Schemas["SetProposal"];
/** A step of the route: one of the kinds that the server knows, told apart by `kind`. */
export type StepData = NonNullable<Schemas["Route"]["steps"]>[number];
export type StepOf<K extends StepData["kind"]> = Extract<StepData, { kind: K }>;
export type HaulChange = Partial<Schemas["HaulEdit"]>;

export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
    title: string,
    readonly where = "",
  ) {
    super(title);
  }
}

/** Pages of a server with an access key lead to its sign-in page, and back afterwards. */
export function toSignIn() {
  const here = window.location.pathname + window.location.search;
  if (window.location.pathname !== "/sign-in")
    window.location.assign(`/sign-in?back=${encodeURIComponent(here)}`);
}

const offline = () =>
  new Problem(0, "offline", "The server does not answer. Start it again with ./run demo.");

/** The typed client: addresses, parameters and answers are those of the server's schema. */
const client = createClient<paths>({ fetch: (request) => fetch(request) });
client.use({
  onResponse: ({ request, response }) => {
    if (response.status === 401 && !request.url.endsWith("/api/sign-in")) toSignIn();
  },
  onError: () => offline(),
});

/**
 * What was answered. Raises a Problem for everything else. The type is named at each call: the library takes tuples of
 * the schema for lists.
 */
async function answer<T>(call: Promise<{ data?: unknown; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await call;
  if (response.ok) return data as T;
  throw problemOf(response.status, error);
}

function problemOf(status: number, said: unknown): Problem {
  const body = (typeof said === "object" && said !== null ? said : {}) as Partial<Schemas["ProblemOut"]>;
  return new Problem(
    status,
    body.code ?? "http",
    body.title ?? `The server answered ${status}.`,
    body.where ?? "",
  );
}

/** What is no JSON, such as a view or an image. Raises a Problem for everything but an answer that is good. */
export async function raw(address: string, signal?: AbortSignal): Promise<Response> {
  const response = await fetch(address, { signal }).catch((error) => {
    throw signal?.aborted ? error : offline();
  });
  if (response.status === 401) toSignIn();
  if (!response.ok) throw problemOf(response.status, await response.json().catch(() => null));
  return response;
}

/** Query parameters as the ledger makes them. */
const all = (query: URLSearchParams) => ({ query: Object.fromEntries(query) as Record<string, never> });
const at = <K extends string>(key: K, value: string) => ({ path: { [key]: value } as Record<K, string> });
/** A scene of a haul as calls take it: of its source, how the route reads it goes along. */
export const asRead = (haul: Haul | undefined, scene: string) =>
  haul?.reading && scene === haul.source?.id ? `${scene}~${haul.reading}` : scene;
/** The id of a scene, however it is read. */
export const bare = (scene: string) => scene.split("~")[0] ?? "";
/** A scene, or with `id~reading` a source as the route reads it. */
const told = (scene: string, query = new URLSearchParams()) => {
  const [id = "", read] = scene.split("~");
  return { ...at("scene_id", id), ...all(new URLSearchParams(read ? [...query, ["read", read]] : query)) };
};
const ifMatch = (tag: string | null) => (tag ? { headers: { "If-Match": tag } } : {});

/** Files as a form; the folder that they were dropped in goes along. */
function formOf(files: File[], more: Record<string, string> = {}) {
  const form = new FormData();
  for (const file of files)
    form.append("files", file, (file as File & { path?: string }).webkitRelativePath || file.name);
  for (const [key, value] of Object.entries(more)) form.append(key, value);
  // the schema tells a form by its fields; what is sent is the form itself
  return { body: form as never, bodySerializer: (body: unknown) => body as FormData };
}

async function tagOf(name: string): Promise<string | null> {
  const { response } = await client.GET("/api/destinations/{name}", { params: at("name", name) });
  return response.headers.get("ETag");
}

export const api = {
  health: () => answer<Health>(client.GET("/api/health")),
  hauls: (search: string, offset: number, deleted = false) =>
    answer<Schemas["HaulsPage"]>(
      client.GET("/api/hauls", { params: { query: { search, offset, deleted } } }),
    ),
  signIn: (key: string) => answer<void>(client.POST("/api/sign-in", { body: { key } })),
  job: (id: string) => answer<Job>(client.GET("/api/jobs/{job_id}", { params: at("job_id", id) })),
  /** The newest run before and after one of its steps, counted from 1. */
  stepViews: (haul: string, number: number) =>
    answer<Job>(
      client.POST("/api/hauls/{haul_id}/steps/{number}/views", {
        params: { path: { haul_id: haul, number } },
      }),
    ),
  price: (scene: string) =>
    answer<Price>(client.GET("/api/scenes/{scene_id}/price", { params: at("scene_id", scene) })),
  /** A job that traces light on all lightmaps, or on those of some parts. */
  bake: (scene: string, ask: Partial<Schemas["BakeAsk"]>) =>
    answer<Job>(
      client.POST("/api/scenes/{scene_id}/bake", {
        params: at("scene_id", scene),
        body: ask as Schemas["BakeAsk"],
      }),
    ),
  light: (scene: string, query: { texelM?: number; megabytes?: number; ceiling?: number; unseen?: number }) =>
    answer<LightReport>(
      client.GET("/api/scenes/{scene_id}/light", { params: { path: { scene_id: scene }, query } }),
    ),
  costly: (scene: string, by: "part" | "mesh" | "material" | "layer") =>
    answer<CostRow[]>(
      client.GET("/api/scenes/{scene_id}/costly", { params: { path: { scene_id: scene }, query: { by } } }),
    ),
  /** A job that tries the ways to let parts travel. */
  alternatives: (
    scene: string,
    where: { parts?: string[] },
    by: "parent" | "layer" | "material" | "cell" | "all",
  ) =>
    answer<Job>(
      client.POST("/api/scenes/{scene_id}/alternatives", {
        params: at("scene_id", scene),
        body: { where, by, cellM: 10 },
      }),
    ),
  /** A job that looks for steps which meet a budget. */
  plan: (scene: string, budget: Budget) =>
    answer<Job>(client.POST("/api/scenes/{scene_id}/plan", { params: at("scene_id", scene), body: budget })),
  answer: (job: string) =>
    answer<Answer>(client.GET("/api/jobs/{job_id}/answer", { params: at("job_id", job) })),
  preview: (scene: string, step: StepData) =>
    answer<Job>(
      client.POST("/api/scenes/{scene_id}/preview", { params: at("scene_id", scene), body: { step } }),
    ),
  haul: (id: string, signal?: AbortSignal) =>
    answer<Haul>(
      client.GET("/api/hauls/{haul_id}", { params: at("haul_id", id), ...(signal ? { signal } : {}) }),
    ),
  begin: (files: File[], destination: string) =>
    answer<Haul>(client.POST("/api/hauls", formOf(files, { destination }))),
  addFiles: (haul: string, files: File[]) =>
    answer<Job>(client.POST("/api/hauls/{haul_id}/files", { params: at("haul_id", haul), ...formOf(files) })),
  removeFile: (haul: string, path: string) =>
    answer<Job>(
      client.DELETE("/api/hauls/{haul_id}/files", { params: { path: { haul_id: haul }, query: { path } } }),
    ),
  edit: (haul: Haul, change: HaulChange) =>
    answer<Haul>(
      client.PATCH("/api/hauls/{haul_id}", {
        params: at("haul_id", haul.id),
        body: change,
        ...ifMatch(`"${haul.version}"`),
      }),
    ),
  /** Takes back the newest change of a haul, or does again what was undone last. */
  turnBack: (haul: Haul, way: Way) =>
    answer<Haul>(
      client.POST(`/api/hauls/{haul_id}/${way}`, {
        params: at("haul_id", haul.id),
        ...ifMatch(`"${haul.version}"`),
      }),
    ),
  /** Deletes a haul, for some days or, when it is deleted already, for good. */
  remove: (haul: { id: string; version: number }, forGood = false) =>
    answer<void>(
      client.DELETE("/api/hauls/{haul_id}", {
        params: { path: { haul_id: haul.id }, query: { forGood } },
        ...ifMatch(`"${haul.version}"`),
      }),
    ),
  restore: (id: string) =>
    answer<Haul>(client.POST("/api/hauls/{haul_id}/restore", { params: at("haul_id", id) })),
  run: (id: string) => answer<Job>(client.POST("/api/hauls/{haul_id}/run", { params: at("haul_id", id) })),
  pack: (id: string, format: string) =>
    answer<Job>(
      client.POST("/api/hauls/{haul_id}/pack", {
        params: at("haul_id", id),
        body: { format } as Schemas["PackRequest"],
      }),
    ),
  arrive: (id: string) =>
    answer<Job>(client.POST("/api/hauls/{haul_id}/arrive", { params: at("haul_id", id) })),
  cancel: (job: string) =>
    answer<Job>(client.POST("/api/jobs/{job_id}/cancel", { params: at("job_id", job) })),
  parts: (scene: string, query: URLSearchParams) =>
    answer<Schemas["PartsPage"]>(client.GET("/api/scenes/{scene_id}/parts", { params: told(scene, query) })),
  namedParts: (scene: string, parts: string[]) =>
    answer<Schemas["PartsNamed"]>(
      client.POST("/api/scenes/{scene_id}/parts/named", { params: at("scene_id", scene), body: { parts } }),
    ),
  meshes: (scene: string, query: URLSearchParams) =>
    answer<Schemas["MeshesPage"]>(
      client.GET("/api/scenes/{scene_id}/meshes", {
        params: { ...at("scene_id", bare(scene)), ...all(query) },
      }),
    ),
  findings: (haul: string, of: "source" | "result") =>
    answer<Finding[]>(
      client.GET("/api/hauls/{haul_id}/findings", { params: { ...at("haul_id", haul), query: { of } } }),
    ),
  /** Where a finding is, the worst first, in metres as the view has them. */
  places: (scene: string, finding: string) =>
    answer<Place[]>(
      client.GET("/api/scenes/{scene_id}/findings/{finding_id}/places", {
        params: { path: { ...told(scene).path, finding_id: finding }, query: told(scene).query },
      }),
    ),
  proposal: (haul: string) =>
    answer<Proposed[]>(client.GET("/api/hauls/{haul_id}/proposal", { params: at("haul_id", haul) })),
  picked: (scene: string, query: URLSearchParams) =>
    answer<Schemas["Picked"]>(client.GET("/api/scenes/{scene_id}/picked", { params: told(scene, query) })),
  groups: (scene: string, query: URLSearchParams) =>
    answer<Schemas["GroupsPage"]>(
      client.GET("/api/scenes/{scene_id}/groups", {
        params: { ...at("scene_id", bare(scene)), ...all(query) },
      }),
    ),
  materials: (scene: string, query: URLSearchParams) =>
    answer<Schemas["MaterialsPage"]>(
      client.GET("/api/scenes/{scene_id}/materials", {
        params: { ...at("scene_id", bare(scene)), ...all(query) },
      }),
    ),
  arrivalRows: (arrival: string, query: URLSearchParams) =>
    answer<Schemas["ArrivalPage"]>(
      client.GET("/api/arrivals/{arrival_id}/rows", {
        params: { ...at("arrival_id", arrival), ...all(query) },
      }),
    ),
  destinations: (deleted = false) =>
    answer<Destination[]>(client.GET("/api/destinations", { params: { query: { deleted } } })),
  keepDestination: async (destination: Destination) => {
    const known = (await api.destinations()).some((d) => d.name === destination.name);
    const tag = known ? await tagOf(destination.name) : null;
    return answer<Destination>(
      client.PUT("/api/destinations/{name}", {
        params: at("name", destination.name),
        body: destination,
        ...ifMatch(tag),
      }),
    );
  },
  dropDestination: async (name: string) => {
    const tag = await tagOf(name);
    return answer<void>(
      client.DELETE("/api/destinations/{name}", { params: at("name", name), ...ifMatch(tag) }),
    );
  },
  restoreDestination: (name: string) =>
    answer<Destination>(client.POST("/api/destinations/{name}/restore", { params: at("name", name) })),
  changesOfDestination: (name: string) =>
    answer<Schemas["Changes"]>(client.GET("/api/destinations/{name}/changes", { params: at("name", name) })),
  turnBackDestination: async (name: string, way: Way) =>
    answer<Destination>(
      client.POST(`/api/destinations/{name}/${way}`, {
        params: at("name", name),
        ...ifMatch(await tagOf(name)),
      }),
    ),
  formats: () => answer<Format[]>(client.GET("/api/formats")),
  habits: () => answer<Habit[]>(client.GET("/api/yardstick/habits")),
  standIn: (destination: string, format: string, habit: string) =>
    answer<Answers>(
      client.POST("/api/yardstick/answer", {
        body: { destination, format, habit } as Schemas["AnswerRequest"],
      }),
    ),
  readAnswers: (destination: string, format: string, answers: Answers) =>
    answer<Reading>(
      client.POST("/api/yardstick/read", {
        body: { destination, format, answers } as Schemas["ReadRequest"],
      }),
    ),
  setFigures: (scene: string, sets: PartSet[]) =>
    answer<SetFigures[]>(
      client.POST("/api/scenes/{scene_id}/sets/figures", { params: at("scene_id", scene), body: { sets } }),
    ),
  setMembers: (scene: string, set: PartSet) =>
    answer<Schemas["Picked"]>(
      client.POST("/api/scenes/{scene_id}/sets/members", { params: at("scene_id", scene), body: set }),
    ),
  shapes: (scene: string, step: string) =>
    answer<Shapes>(
      client.GET("/api/scenes/{scene_id}/shapes", {
        params: { ...at("scene_id", scene), query: step ? { step } : {} },
      }),
    ),
  steps: () => answer<StepKind[]>(client.GET("/api/steps")),
};
