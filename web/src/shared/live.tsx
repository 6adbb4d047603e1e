/** Live screens: what changed on the server is fetched again, by itself. */
import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import { createContext, type ReactNode, useContext, useEffect, useState } from "react";

/** Which queries show something of a table. */
const SHOWN_BY: Record<string, string[]> = {
  site: ["shelves"],
  shelf: ["shelves", "compare", "cut"],
  drive: ["shelves", "drives", "drive", "today", "pools", "pool", "compare", "cut"],
  pool: ["pools", "pool", "today", "drives", "notice"],
  pool_place: ["pools", "pool", "drives", "drive", "shelves", "today"],
  volume: ["pools", "pool", "volumes", "access"],
  volume_piece: ["pools", "pool"],
  volume_stripes: ["pools", "pool"],
  host: ["access"],
  mount: ["pool", "access", "notice"],
  party: ["access"],
  party_member: ["access"],
  share: ["pool", "access", "notice"],
  share_right: ["access", "notice"],
  share_visit: ["access"],
  initiator: ["access"],
  target: ["pool", "access", "notice"],
  target_lun: ["pool", "access"],
  target_right: ["access"],
  application: ["pool", "access", "notice"],
  keep_rule: ["pool", "access"],
  partition_plan: ["partitions"],
  sample_file: ["pool", "today", "access"],
  change_sheet: ["sheets", "sheet", "today"],
  job: ["jobs", "today", "pool", "sheet"],
  logbook: ["logbook", "today"],
  setting: ["speed"],
  drive_model: ["prices", "compare", "cut"],
  comparison: ["comparisons"],
  backup: ["backups"],
};

const Connection = createContext(true);
/** Whether changes are being heard of. */
export const useConnected = () => useContext(Connection);

export function Live({ children }: { children: ReactNode }) {
  const client = useQueryClient();
  const [connected, setConnected] = useState(true);
  useEffect(() => listen(client, setConnected), [client]);
  return <Connection.Provider value={connected}>{children}</Connection.Provider>;
}

function listen(client: QueryClient, tell: (connected: boolean) => void): () => void {
  const waiting = new Set<string>();
  let timer: ReturnType<typeof setTimeout> | undefined;
  const flush = () => {
    timer = undefined;
    for (const key of waiting) client.invalidateQueries({ queryKey: [key] });
    waiting.clear();
  };
  const source = new EventSource("/api/events");
  source.onopen = () => tell(true);
  source.onerror = () => tell(false);
  source.onmessage = (event) => {
    if (event.data === "lost") return tell(false);
    tell(true);
    for (const topic of String(event.data).split(",")) {
      if (topic === "everything") {
        client.invalidateQueries({ predicate: (q) => q.queryKey[0] !== "me" });
        continue;
      }
      for (const key of SHOWN_BY[topic] ?? []) waiting.add(key);
    }
    // Jobs report several times a second; fetching twice a second is enough for a person.
    timer ??= setTimeout(flush, 400);
  };
  return () => {
    source.close();
    clearTimeout(timer);
  };
}
