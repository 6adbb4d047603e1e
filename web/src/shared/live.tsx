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
  errand: ["sheet"],
  setting: ["speed"],
  drive_model: ["prices", "compare", "cut"],
  comparison: ["comparisons"],
  backup: ["backups"],
};

/** What answers: the web server, and, as far as it knows, the database and the worker. */
export type Answers = { web: boolean; database: boolean; worker: boolean };

const ALL: Answers = { web: true, database: true, worker: true };
const Connection = createContext<Answers>(ALL);
/** What answers just now. */
export const useAnswers = () => useContext(Connection);

/** The stream says every few seconds what answers; silent for longer than this, it is the server that does not. */
const SILENCE = 12_000;

export function Live({ children }: { children: ReactNode }) {
  const client = useQueryClient();
  const [answers, setAnswers] = useState<Answers>(ALL);
  useEffect(() => {
    const tell = (now: Answers) =>
      setAnswers((before) =>
        before.web === now.web && before.database === now.database && before.worker === now.worker
          ? before
          : now,
      );
    return listen(client, tell);
  }, [client]);
  return <Connection.Provider value={answers}>{children}</Connection.Provider>;
}

function listen(client: QueryClient, tell: (answers: Answers) => void): () => void {
  const waiting = new Set<string>();
  let timer: ReturnType<typeof setTimeout> | undefined;
  let heard = Date.now();
  let source: EventSource | undefined;
  const flush = () => {
    timer = undefined;
    for (const key of waiting) client.invalidateQueries({ queryKey: [key] });
    waiting.clear();
  };
  const changed = (topics: string) => {
    for (const topic of topics.split(",")) {
      if (topic === "everything") {
        client.invalidateQueries({ predicate: (q) => q.queryKey[0] !== "me" });
        continue;
      }
      for (const key of SHOWN_BY[topic] ?? []) waiting.add(key);
    }
    // Jobs report several times a second; fetching twice a second is enough for a person.
    timer ??= setTimeout(flush, 400);
  };
  const open = () => {
    source?.close();
    source = new EventSource("/api/events");
    source.onmessage = (event) => {
      heard = Date.now();
      changed(String(event.data));
    };
    source.addEventListener("state", (event) => {
      heard = Date.now();
      tell({ web: true, ...JSON.parse((event as MessageEvent<string>).data) });
    });
    source.onerror = () => {
      // Refused for good (signed out, or too many windows): asked anew after a while. Otherwise the browser does.
      if (source?.readyState === EventSource.CLOSED) client.invalidateQueries({ queryKey: ["me"] });
    };
  };
  open();
  const watch = setInterval(() => {
    if (Date.now() - heard <= SILENCE) return;
    tell({ ...ALL, web: false });
    if (source?.readyState === EventSource.CLOSED) open();
  }, 2000);
  return () => {
    source?.close();
    clearInterval(watch);
    clearTimeout(timer);
  };
}
