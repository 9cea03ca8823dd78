// Queries over the API, kept fresh by job events.
import {
  replaceEqualDeep,
  useInfiniteQuery,
  useMutation,
  useQuery,
  useQueryClient,
} from "@tanstack/react-query";
import { useEffect } from "react";
import { tell } from "../shared/messages";
import {
  api,
  asRead,
  type Destination,
  type Finding,
  type Haul,
  type HaulChange,
  type Job,
  type Problem,
  type Way,
} from "./client";

export const useHauls = (search: string, deleted = false) =>
  useInfiniteQuery({
    queryKey: ["hauls", search, deleted],
    queryFn: ({ pageParam }) => api.hauls(search, pageParam, deleted),
    initialPageParam: 0,
    getNextPageParam: (last, pages) => {
      const seen = pages.reduce((sum, page) => sum + page.items.length, 0);
      return seen < last.total ? seen : undefined;
    },
    // while another search is under way; those that are deleted are never shown as others
    placeholderData: (old, query) => (query?.queryKey[2] === deleted ? old : undefined),
  });
export const useHealth = () =>
  useQuery({ queryKey: ["health"], queryFn: api.health, refetchInterval: 5_000, retry: false });
/** A haul; an answer that is older than what is shown, having been on its way when it was changed, is not taken. */
export const useHaul = (id: string) =>
  useQuery({
    queryKey: ["haul", id],
    queryFn: ({ signal }) => api.haul(id, signal),
    structuralSharing: (old, fresh) => {
      const [before, after] = [old as Haul | undefined, fresh as Haul];
      return before && after.version < before.version ? before : replaceEqualDeep(before, after);
    },
  });
export const useDestinations = () =>
  useQuery({
    queryKey: ["destinations"],
    queryFn: () => api.destinations(),
    staleTime: 60_000,
    meta: { asked: "Destinations" },
  });
/** The user's own that are deleted and can be restored. */
export const useDeletedDestinations = () =>
  useQuery({
    queryKey: ["destinations", "deleted"],
    queryFn: () => api.destinations(true),
    meta: { asked: "Deleted destinations" },
  });
/** What can be undone of one of the user's own, and what can be done again. */
export const useChangesOf = (destination: Destination | undefined) =>
  useQuery({
    queryKey: ["destinations", "changes", destination?.name],
    queryFn: () => api.changesOfDestination(destination?.name ?? ""),
    enabled: !!destination && !destination.builtIn,
    meta: { asked: "Changes that can be undone" },
  });
export const useFormats = () =>
  useQuery({
    queryKey: ["formats"],
    queryFn: api.formats,
    staleTime: Infinity,
    meta: { asked: "Formats" },
  });
export const useStepKinds = () => useQuery({ queryKey: ["steps"], queryFn: api.steps, staleTime: Infinity });
/** What the survey of the source proposes; destinations differ in what they need. */
export const useProposal = (haul: string, source: string | undefined, destination: string) =>
  useQuery({
    queryKey: ["proposal", haul, source, destination],
    queryFn: () => api.proposal(haul),
    enabled: !!source,
  });
/** Findings of a scene of a haul, as they were left or not. */
export function useFindings(haul: Haul | undefined, of: "source" | "result") {
  const scene = of === "result" ? haul?.result?.id : haul?.source?.id;
  return useQuery({
    // by the version that the server has said: what was left is its answer, not what the page shows ahead of it
    queryKey: ["findings", scene, haul?.version],
    queryFn: () => api.findings(haul?.id ?? "", of),
    enabled: !!scene,
    staleTime: Infinity,
    placeholderData: (old) => (old?.[0]?.sceneId === scene ? old : undefined),
    // where they are goes by how the route reads the source
    select: (all) => all.map((f) => ({ ...f, sceneId: asRead(haul, f.sceneId) })),
  });
}

/** How it is asked where a finding is; those of a scene never change, but for how it is read. */
export const placesOf = (finding: Finding | undefined) => ({
  queryKey: ["places", finding?.id, finding?.sceneId],
  queryFn: () => api.places(finding?.sceneId ?? "", finding?.id ?? ""),
  enabled: !!finding?.partCount,
  staleTime: Infinity,
});
export const usePlaces = (finding: Finding | undefined) => useQuery(placesOf(finding));

/** What a scene costs; a scene never changes, and its price only with the destination's weights. */
export const usePrice = (scene: string) =>
  useQuery({ queryKey: ["price", scene], queryFn: () => api.price(scene), enabled: !!scene });

/** What lightmaps weigh; the answer before stays while a slider moves. */
export const useLight = (
  scene: string,
  query: { texelM?: number; megabytes?: number; ceiling?: number; unseen?: number },
) =>
  useQuery({
    queryKey: ["light", scene, query],
    queryFn: () => api.light(scene, query),
    enabled: !!scene,
    placeholderData: (old) => old,
  });

export const useCostly = (scene: string, by: "part" | "mesh" | "material" | "layer") =>
  useQuery({ queryKey: ["costly", scene, by], queryFn: () => api.costly(scene, by), enabled: !!scene });

export type JobEvent = Pick<Job, "state" | "title" | "done" | "total"> & {
  job: string;
  haul: string;
  problem?: { code: string; title: string; where: string } | null;
};

/** Listens to the server's events; progress goes into the cached haul, ends reload it. */
export function useJobEvents(haul?: string) {
  const client = useQueryClient();
  useEffect(() => {
    const source = new EventSource(haul ? `/api/events?haul=${haul}` : "/api/events");
    source.addEventListener("job", (message) => {
      const event = JSON.parse((message as MessageEvent<string>).data) as JobEvent;
      if (event.state === "running") {
        client.setQueryData<Haul>(["haul", event.haul], (old) =>
          old?.job && old.job.id === event.job
            ? {
                ...old,
                job: {
                  ...old.job,
                  state: "running",
                  title: event.title,
                  done: event.done,
                  total: event.total,
                },
              }
            : old,
        );
        return;
      }
      if (event.title === "preview") return; // its view waits for it and tells of it
      if (event.state === "failed" && event.problem) tell("error", event.problem.title);
      if (event.state === "cancelled") tell("info", "Stopped. What was there before is unchanged.");
      client.invalidateQueries({ queryKey: ["haul", event.haul] });
      client.invalidateQueries({ queryKey: ["hauls"] });
    });
    // after a lost line the state may have moved on
    source.onopen = () => {
      if (haul) client.invalidateQueries({ queryKey: ["haul", haul] });
    };
    return () => source.close();
  }, [client, haul]);
}

/** Starts work on a haul and shows its job at once. */
export function useStart(haul: Haul | undefined) {
  const client = useQueryClient();
  return useMutation<Job, Problem, () => Promise<Job>>({
    mutationFn: (start) => start(),
    onSuccess: (job) => {
      if (haul) client.setQueryData<Haul>(["haul", haul.id], (old) => (old ? { ...old, job } : old));
    },
    onError: (problem) => tell("error", problem.message),
  });
}

export function useEdit(haul: Haul | undefined) {
  const client = useQueryClient();
  return useMutation<Haul, Problem, HaulChange>({
    mutationFn: (change) => api.edit(haul as Haul, change),
    // shown at once; the server's answer or a reload puts it right
    onMutate: async ({ route }) => {
      // an answer that is on its way would show what was before
      if (haul) await client.cancelQueries({ queryKey: ["haul", haul.id] });
      if (haul && route)
        client.setQueryData<Haul>(["haul", haul.id], (old) =>
          old ? { ...old, route: { ...old.route, ...route } as Haul["route"] } : old,
        );
    },
    onSuccess: (fresh) => client.setQueryData(["haul", fresh.id], fresh),
    onError: (problem) => {
      tell("error", problem.message);
      if (haul) client.invalidateQueries({ queryKey: ["haul", haul.id] });
    },
  });
}

/** Undo and redo of what was changed in a haul; says what it was where that is nothing in sight, such as a set. */
export function useTurnBack(haul: Haul | undefined) {
  const client = useQueryClient();
  return useMutation<Haul, Problem, Way>({
    mutationFn: (way) => api.turnBack(haul as Haul, way),
    onSuccess: (fresh, way) => {
      client.setQueryData(["haul", fresh.id], fresh);
      client.invalidateQueries({ queryKey: ["hauls"] });
      const seen = (h: Haul) => JSON.stringify([h.name, h.destination, h.route.steps]);
      if (haul && seen(fresh) === seen(haul))
        tell("info", way === "undo" ? `Undone: ${haul.undo}.` : `Done again: ${haul.redo}.`);
    },
    onError: (problem) => {
      tell("error", problem.message);
      if (haul) client.invalidateQueries({ queryKey: ["haul", haul.id] });
    },
  });
}
