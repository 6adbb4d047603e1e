/** The drives chosen on the shelves; they stay chosen from screen to screen. */
import { createContext, type ReactNode, useContext, useEffect, useMemo, useState } from "react";

interface Selection {
  ids: ReadonlySet<number>;
  toggle: (id: number) => void;
  add: (ids: Iterable<number>) => void;
  replace: (ids: Iterable<number>) => void;
}

const Chosen = createContext<Selection | null>(null);
const KEY = "pairshelf.selection";

function recall(): Set<number> {
  try {
    return new Set(JSON.parse(sessionStorage.getItem(KEY) ?? "[]"));
  } catch {
    return new Set();
  }
}

export function SelectionProvider({ children }: { children: ReactNode }) {
  const [ids, setIds] = useState<ReadonlySet<number>>(recall);
  useEffect(() => sessionStorage.setItem(KEY, JSON.stringify([...ids])), [ids]);
  const value = useMemo<Selection>(
    () => ({
      ids,
      toggle: (id) =>
        setIds((before) => {
          const after = new Set(before);
          if (!after.delete(id)) after.add(id);
          return after;
        }),
      add: (more) => setIds((before) => new Set([...before, ...more])),
      replace: (all) => setIds(new Set(all)),
    }),
    [ids],
  );
  return <Chosen.Provider value={value}>{children}</Chosen.Provider>;
}

export function useSelection(): Selection {
  const selection = useContext(Chosen);
  if (!selection) throw new Error("useSelection belongs inside SelectionProvider");
  return selection;
}
