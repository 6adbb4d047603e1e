/** The drives of shelves that are shown: asked for together, kept shelf by shelf. */
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, ask, type Schema, server } from "../../api/client";

type Drive = Schema["DriveOut"];

let waiting: Map<number, ((found: Promise<Drive[]>) => void)[]> | null = null;

/** One question for all shelves that are asked for in the same moment. */
function drivesOf(shelf: number): Promise<Drive[]> {
  return new Promise((resolve) => {
    if (!waiting) {
      const these = new Map<number, ((found: Promise<Drive[]>) => void)[]>();
      waiting = these;
      queueMicrotask(() =>
        setTimeout(() => {
          waiting = null;
          const shelves = [...these.keys()].join(",");
          const all = ask(api.GET("/api/drives", { params: { query: { shelves } } }));
          for (const [id, tell] of these)
            for (const one of tell) one(all.then((found) => found.drives.filter((d) => d.shelf_id === id)));
        }),
      );
    }
    waiting.set(shelf, [...(waiting.get(shelf) ?? []), resolve]);
  });
}

export function useDrivesOf(shelf: number) {
  const params = { query: { shelves: String(shelf) } };
  return useQuery({
    queryKey: server.queryOptions("get", "/api/drives", { params }).queryKey,
    queryFn: async () => ({ drives: await drivesOf(shelf) }),
    placeholderData: keepPreviousData,
  });
}
