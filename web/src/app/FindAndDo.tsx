/** Ctrl+K: go to a screen, a pool, a shelf or a drive by typing; and the list of keys. */
import { Modal, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData } from "@tanstack/react-query";
import { useId, useState } from "react";
import { useNavigate } from "react-router";
import { server } from "../api/client";
import { useKinds } from "../shared/me";

interface Place {
  name: string;
  what: string;
  to: string;
  /** Words of the trade that it is looked for with, too. */
  also?: string;
}

const SCREENS: Place[] = [
  { name: "Today", what: "screen", to: "/", also: "dashboard overview alerts status" },
  {
    name: "Shelves",
    what: "screen",
    to: "/shelves",
    also: "enclosure jbod bays locate led lamp smart health",
  },
  { name: "Import drives", what: "do", to: "/shelves/import" },
  { name: "Show new drives", what: "do", to: "/shelves?filter=new", also: "accept add hot swap" },
  { name: "Show free drives", what: "do", to: "/shelves?filter=free", also: "hot spare unused" },
  {
    name: "Compare layouts",
    what: "do",
    to: "/compare",
    also: "raid parity mirror capacity calculator fault tolerance",
  },
  { name: "Compare a what-if", what: "do", to: "/compare?what=what-if" },
  { name: "Lay out a spread pool", what: "do", to: "/compare?view=spread" },
  { name: "Split drives by use", what: "do", to: "/compare?view=split" },
  { name: "See what to buy", what: "do", to: "/compare?view=buy", also: "price cost purchase" },
  { name: "Open a saved comparison", what: "do", to: "/compare?view=saved" },
  {
    name: "Pools",
    what: "screen",
    to: "/pools",
    also: "raid array volume expand grow scrub hot spare spare",
  },
  {
    name: "Access: hosts and mounts",
    what: "screen",
    to: "/access/hosts",
    also: "add host nfs fstab mount point computer",
  },
  { name: "Shares", what: "screen", to: "/access/shares", also: "smb nfs samba network folder permissions" },
  { name: "Block targets", what: "screen", to: "/access/targets", also: "iscsi lun iqn chap san" },
  {
    name: "People and groups",
    what: "screen",
    to: "/access/people",
    also: "user users add user permissions",
  },
  { name: "Impact of an outage", what: "do", to: "/notice", also: "who notices depends power off" },
  { name: "Changes", what: "screen", to: "/changes" },
  {
    name: "Disposal",
    what: "screen",
    to: "/disposal",
    also: "wipe erase secure erase sanitize certificate shred sell",
  },
  { name: "Logbook", what: "screen", to: "/logbook", also: "audit history log" },
  {
    name: "Settings",
    what: "screen",
    to: "/settings",
    also: "preferences dark mode theme units api token metrics calendar schedule",
  },
  {
    name: "Notifications",
    what: "do",
    to: "/settings#messages",
    also: "email e-mail mail alert webhook smtp",
  },
  { name: "Change your password", what: "do", to: "/settings#password", also: "account login sign-in" },
  {
    name: "Add a user",
    what: "do",
    to: "/settings#people",
    also: "account administrator operator viewer people",
  },
  {
    name: "SMART health rules",
    what: "do",
    to: "/settings#failing",
    also: "smart failing prediction thresholds temperature",
  },
  { name: "Add a shelf", what: "do", to: "/shelves", also: "new enclosure jbod nas" },
  {
    name: "Is it safe to power off?",
    what: "do",
    to: "/notice",
    also: "shutdown reboot maintenance ups impact",
  },
];

/** What sorts of things are called here. */
const WHAT: Record<string, string> = { act: "do", target: "block target" };

const KEYS = [
  ["Ctrl+K", "find and do"],
  ["?", "this list"],
  ["Tab, arrows", "from spine to spine on the shelves"],
  ["Space, Enter", "select a drive, or simulate its failure"],
  ["Shift+Space, Shift+click", "select a range of drives on a shelf"],
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
  const found = server.useQuery(
    "get",
    "/api/find",
    { params: { query: { words: settled } } },
    { enabled: settled !== "", placeholderData: keepPreviousData },
  );
  const shelves = server.useQuery(
    "get",
    "/api/shelves",
    { params: { query: { filter: settled } } },
    { enabled: settled !== "", placeholderData: keepPreviousData },
  );
  const kinds = useKinds()?.changes ?? [];
  const word = typed.trim().toLowerCase();
  const screens = SCREENS.filter((p) => p.name.toLowerCase().includes(word)).concat(
    word ? SCREENS.filter((p) => !p.name.toLowerCase().includes(word) && p.also?.includes(word)) : [],
  );
  const hits: Place[] = [...screens.slice(0, word ? 6 : 9)];
  if (word) {
    for (const one of settled ? (found.data?.found ?? []) : []) {
      hits.push({ name: one.name, what: WHAT[one.what] ?? one.what, to: one.link });
    }
    for (const kind of kinds) {
      if (!kind.name.includes(word)) continue;
      const name = kind.name.charAt(0).toUpperCase() + kind.name.slice(1);
      hits.push({ name, what: "change to draw up", to: `/changes/draw/${kind.id}` });
    }
  }
  if (settled && shelves.data && !shelves.data.filter_error && shelves.data.matching > 0) {
    hits.push({
      name: `${shelves.data.matching.toLocaleString("en")} drives: ${settled}`,
      what: "drives",
      to: `/shelves?filter=${encodeURIComponent(settled)}`,
    });
  }
  const list = useId();
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
        role="combobox"
        aria-expanded={hits.length > 0}
        aria-controls={list}
        aria-activedescendant={hits.length ? `${list}-${at}` : undefined}
        aria-autocomplete="list"
        placeholder="check cold, a serial, a person, free hdd >= 4TB"
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
      <div
        id={list}
        role="listbox"
        aria-label="What was found"
        style={{ margin: "0.6rem 0 0", maxHeight: "52vh", overflowY: "auto" }}
      >
        {hits.map((hit, i) => (
          <div
            key={`${hit.what}-${hit.name}-${hit.to}`}
            id={`${list}-${i}`}
            role="option"
            tabIndex={-1}
            aria-selected={i === at}
            onClick={() => take(hit)}
            onKeyDown={(e) => e.key === "Enter" && take(hit)}
            style={{
              display: "flex",
              justifyContent: "space-between",
              gap: "1rem",
              cursor: "pointer",
              padding: "0.4rem 0.6rem",
              background: i === at ? "var(--pine-wash)" : undefined,
              borderRadius: 3,
            }}
          >
            <span style={{ overflowWrap: "anywhere" }}>{hit.name}</span>
            <span className="faint" style={{ whiteSpace: "nowrap" }}>
              {hit.what}
            </span>
          </div>
        ))}
      </div>
      {hits.length === 0 && (
        <p className="faint" role="status" style={{ margin: "0.4rem 0.6rem" }}>
          No results for “{typed.trim()}”.
        </p>
      )}
      {(found.data?.more ?? 0) > 0 && word && (
        <p className="faint" style={{ margin: "0.4rem 0.6rem" }}>
          and {found.data?.more} more; type another word
        </p>
      )}
    </>
  );
}
