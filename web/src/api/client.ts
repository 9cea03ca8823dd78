// Typed calls to the server; every failure becomes a Problem with a sentence that can be shown.
import type { components } from "./schema";

type Schemas = components["schemas"];
export type Haul = Schemas["HaulOut"];
export type HaulSummary = Schemas["HaulSummary"];
export type Job = Schemas["JobOut"];
export type SceneInfo = Schemas["SceneOut"];
export type Part = Schemas["PartOut"];
export type MeshRow = Schemas["MeshOut"];
export type Group = Schemas["GroupOut"];
export type MaterialRow = Schemas["MaterialOut"];
export type Finding = Schemas["FindingOut"];
export type ArrivalRow = Schemas["ArrivalRowOut"];
export type Destination = Schemas["Destination"];
export type StepKind = Schemas["StepKind"];
export type StepRecord = Schemas["StepRecord"];
export type Counts = Schemas["Counts"];
export type Health = Schemas["Health"];
export type Travel = Schemas["TravelOut"];
export type Candidate = Schemas["Candidate"];
export type Shapes = Schemas["ShapesOut"];
export type PartSet = Schemas["PartSet"];
export type Rule = Schemas["Rule"];
export type Treatment = Schemas["Treatment"];
export type SetFigures = Schemas["SetFigures"];
export type Format = Schemas["FormatOut"];
export type Habit = Schemas["HabitOut"];
export type Answers = Schemas["Answers"];
export type Reading = Schemas["Reading"];
export type Mend = Schemas["MendOut"];
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

async function problemOf(response: Response): Promise<Problem> {
  try {
    const body = await response.json();
    return new Problem(
      response.status,
      body.code ?? "http",
      body.title ?? response.statusText,
      body.where ?? "",
    );
  } catch {
    return new Problem(response.status, "http", `The server answered ${response.status}.`);
  }
}

/** Pages of a server with an access key lead to its sign-in page, and back afterwards. */
export function toSignIn() {
  const here = window.location.pathname + window.location.search;
  if (window.location.pathname !== "/sign-in")
    window.location.assign(`/sign-in?back=${encodeURIComponent(here)}`);
}

export async function call<T>(path: string, init: RequestInit = {}): Promise<T> {
  let response: Response;
  try {
    response = await fetch(path, init);
  } catch {
    throw new Problem(0, "offline", "The server does not answer. Start it again with ./run demo.");
  }
  if (response.status === 401 && path !== "/api/sign-in") toSignIn();
  if (!response.ok) throw await problemOf(response);
  return response.status === 204 ? (undefined as T) : ((await response.json()) as T);
}

const json = (method: string, body: unknown, headers: Record<string, string> = {}): RequestInit => ({
  method,
  body: JSON.stringify(body),
  headers: { "Content-Type": "application/json", ...headers },
});

export const api = {
  health: () => call<Health>("/api/health"),
  hauls: (search: string, offset: number) =>
    call<Schemas["HaulsPage"]>(`/api/hauls?${new URLSearchParams({ search, offset: String(offset) })}`),
  signIn: (key: string) => call<void>("/api/sign-in", json("POST", { key })),
  job: (id: string) => call<Job>(`/api/jobs/${id}`),
  preview: (scene: string, step: unknown) =>
    call<Job>(`/api/scenes/${scene}/preview`, json("POST", { step })),
  haul: (id: string) => call<Haul>(`/api/hauls/${id}`),
  begin: (files: File[], destination: string) => {
    const form = new FormData();
    for (const file of files)
      form.append("files", file, (file as File & { path?: string }).webkitRelativePath || file.name);
    form.append("destination", destination);
    return call<Haul>("/api/hauls", { method: "POST", body: form });
  },
  addFiles: (haul: string, files: File[]) => {
    const form = new FormData();
    for (const file of files)
      form.append("files", file, (file as File & { path?: string }).webkitRelativePath || file.name);
    return call<Job>(`/api/hauls/${haul}/files`, { method: "POST", body: form });
  },
  edit: (haul: Haul, change: HaulChange) =>
    call<Haul>(`/api/hauls/${haul.id}`, json("PATCH", change, { "If-Match": `"${haul.version}"` })),
  remove: (id: string, version: number) =>
    call<void>(`/api/hauls/${id}`, { method: "DELETE", headers: { "If-Match": `"${version}"` } }),
  run: (id: string) => call<Job>(`/api/hauls/${id}/run`, { method: "POST" }),
  pack: (id: string, format: string) => call<Job>(`/api/hauls/${id}/pack`, json("POST", { format })),
  arrive: (id: string) => call<Job>(`/api/hauls/${id}/arrive`, { method: "POST" }),
  cancel: (job: string) => call<Job>(`/api/jobs/${job}/cancel`, { method: "POST" }),
  parts: (scene: string, query: URLSearchParams) =>
    call<{ total: number; items: Part[] }>(`/api/scenes/${scene}/parts?${query}`),
  namedParts: (scene: string, parts: string[]) =>
    call<{ items: Part[]; gone: string[] }>(`/api/scenes/${scene}/parts/named`, json("POST", { parts })),
  meshes: (scene: string, query: URLSearchParams) =>
    call<{ total: number; items: MeshRow[] }>(`/api/scenes/${scene}/meshes?${query}`),
  findings: (scene: string) => call<Finding[]>(`/api/scenes/${scene}/findings`),
  picked: (scene: string, query: URLSearchParams) =>
    call<Schemas["Picked"]>(`/api/scenes/${scene}/picked?${query}`),
  groups: (scene: string, query: URLSearchParams) =>
    call<{ total: number; items: Group[] }>(`/api/scenes/${scene}/groups?${query}`),
  materials: (scene: string, query: URLSearchParams) =>
    call<{ total: number; items: MaterialRow[] }>(`/api/scenes/${scene}/materials?${query}`),
  arrivalRows: (arrival: string, query: URLSearchParams) =>
    call<{ total: number; items: ArrivalRow[] }>(`/api/arrivals/${arrival}/rows?${query}`),
  destinations: () => call<Destination[]>("/api/destinations"),
  keepDestination: async (destination: Destination) => {
    const path = `/api/destinations/${encodeURIComponent(destination.name)}`;
    const known = (await api.destinations()).some((d) => d.name === destination.name);
    const tag = known ? (await fetch(path)).headers.get("ETag") : null;
    return call<Destination>(path, json("PUT", destination, tag ? { "If-Match": tag } : {}));
  },
  dropDestination: async (name: string) => {
    const path = `/api/destinations/${encodeURIComponent(name)}`;
    const tag = (await fetch(path)).headers.get("ETag") ?? "";
    return call<void>(path, { method: "DELETE", headers: { "If-Match": tag } });
  },
  formats: () => call<Format[]>("/api/formats"),
  habits: () => call<Habit[]>("/api/yardstick/habits"),
  standIn: (destination: string, format: string, habit: string) =>
    call<Answers>("/api/yardstick/answer", json("POST", { destination, format, habit })),
  readAnswers: (destination: string, format: string, answers: Answers) =>
    call<Reading>("/api/yardstick/read", json("POST", { destination, format, answers })),
  setFigures: (scene: string, sets: PartSet[]) =>
    call<SetFigures[]>(`/api/scenes/${scene}/sets/figures`, json("POST", { sets })),
  setMembers: (scene: string, set: PartSet) =>
    call<Schemas["Picked"]>(`/api/scenes/${scene}/sets/members`, json("POST", set)),
  shapes: (scene: string, step: string) =>
    call<Shapes>(`/api/scenes/${scene}/shapes${step ? `?step=${encodeURIComponent(step)}` : ""}`),
  steps: () => call<StepKind[]>("/api/steps"),
};
