/** Live screens: what changed on the server is fetched again, by itself. */

import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import { createContext, type ReactNode, useContext, useEffect, useState } from "react";
import type { Path } from "../api/client";
import { about, EVERYTHING, SHOWN_BY } from "../api/keys";

/** What answers: the web server, and, as far as it knows, the database and the worker. */
export type Answers = { web: boolean; database: boolean; worker: boolean; watcher: boolean };

const ALL: Answers = { web: true, database: true, worker: true, watcher: true };
const Connection = createContext<Answers>(ALL);
/** What answers just now. */
export const useAnswers = () => useContext(Connection);

/** The stream says every few seconds what answers; silent for longer than this, it is the server that does not. */
const SILENCE = 12_000;
/** Milliseconds from the first connection until everything is asked anew. */
const AT_FIRST = 1500;

export function Live({ children }: { children: ReactNode }) {
  const client = useQueryClient();
  const [answers, setAnswers] = useState<Answers>(ALL);
  useEffect(() => {
    const tell = (now: Answers) =>
      setAnswers((before) =>
        (Object.keys(ALL) as (keyof Answers)[]).every((who) => before[who] === now[who]) ? before : now,
      );
    return listen(client, tell);
  }, [client]);
  return <Connection.Provider value={answers}>{children}</Connection.Provider>;
}

function listen(client: QueryClient, tell: (answers: Answers) => void): () => void {
  const waiting = new Set<Path>();
  let timer: ReturnType<typeof setTimeout> | undefined;
  let first = true;
  let heard = Date.now();
  let source: EventSource | undefined;
  const flush = () => {
    timer = undefined;
    // An answer that is on its way is left to come, and asked for anew then: cut off each time something changes, it
    // would never come where it takes longer than changes do.
    const later = [...waiting].filter((path) => client.isFetching(about(path)) > 0);
    const now = [...waiting].filter((path) => !later.includes(path));
    waiting.clear();
    for (const path of later) waiting.add(path);
    if (now.length) client.invalidateQueries(about(...now));
    if (later.length) timer = setTimeout(flush, 400);
  };
  const changed = (topics: string) => {
    for (const topic of topics.split(",")) {
      if (topic === "everything") {
        // At the first connection the page has just asked; what changed between is asked for once it stands.
        setTimeout(() => client.invalidateQueries(EVERYTHING), first ? AT_FIRST : 0);
        first = false;
        continue;
      }
      for (const path of SHOWN_BY[topic] ?? []) waiting.add(path);
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
