/** Ctrl+K: go to a screen, a pool, a shelf or a drive by typing; and the list of keys. */
import { Modal, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { server } from "../api/client";
import { useKinds } from "../shared/me";

interface Place {
  name: string;
  what: string;
  to: string;
}

const SCREENS: Place[] = [
  { name: "Today", what: "screen", to: "/" },
  { name: "Shelves", what: "screen", to: "/shelves" },
  { name: "Import drives", what: "do", to: "/shelves/import" },
  { name: "Show new drives", what: "do", to: "/shelves?filter=new" },
  { name: "Show free drives", what: "do", to: "/shelves?filter=free" },
  { name: "Compare layouts", what: "do", to: "/compare" },
  { name: "Compare a what-if", what: "do", to: "/compare?what=what-if" },
  { name: "Lay out a spread pool", what: "do", to: "/compare?view=spread" },
  { name: "Split drives by use", what: "do", to: "/compare?view=split" },
  { name: "See what to buy", what: "do", to: "/compare?view=buy" },
  { name: "Open a saved comparison", what: "do", to: "/compare?view=saved" },
  { name: "Pools", what: "screen", to: "/pools" },
  { name: "Access: hosts and mounts", what: "screen", to: "/access/hosts" },
  { name: "Shares", what: "screen", to: "/access/shares" },
  { name: "Block targets", what: "screen", to: "/access/targets" },
  { name: "People and groups", what: "screen", to: "/access/people" },
  { name: "Pull something: who notices?", what: "do", to: "/notice" },
  { name: "Changes", what: "screen", to: "/changes" },
  { name: "Logbook", what: "screen", to: "/logbook" },
  { name: "Settings", what: "screen", to: "/settings" },
];

const KEYS = [
  ["Ctrl+K", "find and do"],
  ["?", "this list"],
  ["Tab, arrows", "from spine to spine on the shelves"],
  ["Space, Enter", "choose a drive, or say it fails in a cut"],
  ["Shift+Space, Shift+click", "choose a stretch of drives on a shelf"],
];

export function FindAndDo({ show, onClose }: { show: "find" | "keys"; onClose: () => void }) {
  return (
    <Modal opened onClose={onClose} title={show === "keys" ? "Keys" : "Find and do"} yOffset="12vh">
      {show === "keys" ? (
        <table className="plain">
          <tbody>
            {KEYS.map(([key, does]) => (
              <tr key={key}>
                <td style={{ whiteSpace: "nowrap" }}>
                  <kbd>{key}</kbd>
                </td>
                <td>{does}</td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : (
        <Find onClose={onClose} />
      )}
    </Modal>
  );
}

function Find({ onClose }: { onClose: () => void }) {
  const [typed, setTyped] = useState("");
  const [at, setAt] = useState(0);
  const [settled] = useDebouncedValue(typed.trim(), 100);
  const go = useNavigate();
  const pools = server.useQuery("get", "/api/pools", { params: { query: { limit: 200 } } });
  const shelves = server.useQuery(
    "get",
    "/api/shelves",
    { params: { query: { filter: settled } } },
    { placeholderData: keepPreviousData },
  );
  const kinds = useKinds()?.changes ?? [];
  const places: Place[] = [
    ...SCREENS,
    ...(pools.data?.pools ?? []).map((p) => ({ name: p.name, what: "pool", to: `/pools/${p.id}` })),
    ...(shelves.data?.shelves ?? []).map((s) => ({
      name: s.name,
      what: "shelf",
      to: `/shelves?filter=${encodeURIComponent(`shelf:"${s.name}"`)}`,
    })),
  ];
  if (typed.trim()) {
    for (const kind of kinds) {
      const name = kind.name.charAt(0).toUpperCase() + kind.name.slice(1);
      places.push({ name, what: "change to draw up", to: `/changes/draw/${kind.id}` });
    }
  }
  const hits = places.filter((p) => p.name.toLowerCase().includes(typed.trim().toLowerCase())).slice(0, 9);
  if (settled && shelves.data && !shelves.data.filter_error && shelves.data.matching > 0) {
    hits.push({
      name: `${shelves.data.matching.toLocaleString("en")} drives: ${settled}`,
      what: "drives",
      to: `/shelves?filter=${encodeURIComponent(settled)}`,
    });
  }
  const take = (place?: Place) => {
    if (!place) return;
    onClose();
    go(place.to);
  };
  return (
    <>
      <TextInput
        data-autofocus
        aria-label="What to find or do"
        placeholder="A screen, a pool, a serial, free hdd >= 4TB"
        value={typed}
        onChange={(e) => {
          setTyped(e.currentTarget.value);
          setAt(0);
        }}
        onKeyDown={(e) => {
          if (e.key === "ArrowDown" || e.key === "ArrowUp") {
            e.preventDefault();
            setAt((at + (e.key === "ArrowDown" ? 1 : hits.length - 1)) % Math.max(1, hits.length));
          }
          if (e.key === "Enter") take(hits[at]);
        }}
      />
      <ul style={{ listStyle: "none", padding: 0, margin: "0.6rem 0 0" }}>
        {hits.map((hit, i) => (
          <li key={`${hit.what}-${hit.to}`}>
            <button
              type="button"
              onClick={() => take(hit)}
              style={{
                all: "unset",
                display: "flex",
                justifyContent: "space-between",
                width: "100%",
                boxSizing: "border-box",
                cursor: "pointer",
                padding: "0.4rem 0.6rem",
                background: i === at ? "var(--pine-wash)" : undefined,
                borderRadius: 3,
              }}
            >
              <span>{hit.name}</span>
              <span className="faint">{hit.what}</span>
            </button>
          </li>
        ))}
        {hits.length === 0 && <li className="faint">Nothing has these words.</li>}
      </ul>
    </>
  );
}
