// The view file of a scene, fetched once for all that show something of it.
import { useQuery } from "@tanstack/react-query";
import { fetchView } from "./load";

export const useViewFile = (scene: string | undefined) =>
  useQuery({
    queryKey: ["view", scene],
    queryFn: ({ signal }) => fetchView(scene ?? "", signal),
    enabled: !!scene,
    staleTime: Infinity,
    gcTime: 60_000,
    // while a preview is made the picture before it stays
    placeholderData: (old, query) =>
      String(query?.queryKey[1]).split(/[|~]/)[0] === scene?.split(/[|~]/)[0] ? old : undefined,
  });
