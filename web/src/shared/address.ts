/** The part of the address after the question mark, as state. */
import { useCallback, useMemo, useRef, useState } from "react";
import { useLocation, useNavigate } from "react-router";

type Changes = Record<string, string | null>;
/** Changes of the address, or a function that makes them of what stands in it now. `anew`: a step that Back undoes. */
export type Put = (changes: Changes | ((now: URLSearchParams) => Changes), anew?: "anew") => void;

const standing = () => new URLSearchParams(window.location.search).toString();

/**
 * The address as state of its own: what is chosen or typed counts at once, the router draws it in its own time.
 * Each change is made to what stands in the address at that moment, which may be newer than what is drawn:
 * two presses, or two letters, within one drawing of the page do not undo one another.
 */
export function useAddress(): [URLSearchParams, Put] {
  const location = useLocation();
  const [mine, setMine] = useState(standing);
  const go = useNavigate();
  const push = useRef({ go, path: location.pathname });
  push.current = { go, path: location.pathname };
  const [drawn, setDrawn] = useState(location);
  if (drawn !== location) {
    // Back, forward or a link, too. What is drawn late is older than the address itself, so that is looked at.
    setDrawn(location);
    setMine(standing());
  }
  // Always the same function, so that what is handed it need not be drawn anew.
  const put = useCallback<Put>((changes, anew) => {
    const { go, path } = push.current;
    // Left already, and only not yet gone from the screen.
    if (window.location.pathname !== path) return;
    const after = new URLSearchParams(window.location.search);
    for (const [name, value] of Object.entries(typeof changes === "function" ? changes(after) : changes)) {
      if (value) after.set(name, value);
      else after.delete(name);
    }
    setMine(after.toString());
    go({ search: after.toString() }, { replace: anew === undefined });
  }, []);
  return [useMemo(() => new URLSearchParams(mine), [mine]), put];
}

/** Drives picked on a page, kept in its address: which they are, and how one is picked or let go. */
export function usePicked(): { picked: number[]; turn: (id: number) => void; pick: (ids: number[]) => void } {
  const [params, put] = useAddress();
  return {
    picked: drivesIn(params),
    turn: (id) =>
      put((now) => {
        const before = drivesIn(now);
        return written(before.includes(id) ? before.filter((d) => d !== id) : [...before, id]);
      }),
    pick: (ids) => put(written(ids)),
  };
}

/** The drives that an address names, by number. */
export const drivesIn = (params: URLSearchParams) =>
  (params.get("drives") ?? "").split(",").filter(Boolean).map(Number);

const written = (ids: number[]): Changes => ({ drives: ids.join(",") });
