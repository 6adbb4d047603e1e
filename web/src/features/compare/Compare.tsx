/** Compare: what each way of laying the chosen drives out gives and costs, so that a choice can be defended. */
import { Button, Menu, Text } from "@mantine/core";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { memo, useCallback, useDeferredValue, useState } from "react";
import { Link } from "react-router";
import { api, ask, Problem, type Schema, server } from "../../api/client";
import { download } from "../../shared/download";
import { useMay } from "../../shared/me";
import { Act, Heading, Trouble, Waiting } from "../../shared/parts";
import { Size, useUnits } from "../../shared/units";
import { Buy } from "./Buy";
import { Chosen } from "./Chosen";
import { LayoutTable, MOST_PINS } from "./LayoutTable";
import { Measured } from "./Measured";
import { FIELDS, Needs } from "./Needs";
import { Pinned } from "./Pinned";
import { SavedBanner, SavedList, SaveThis } from "./Saved";
import { SplitByUse } from "./SplitByUse";
import { SpreadPool } from "./SpreadPool";
import {
  type Body,
  besides,
  type Layout,
  nameOf,
  type Question,
  tookSoLong,
  useQuestion,
} from "./useQuestion";
import { WideNarrow } from "./WideNarrow";

const VIEWS: [string, string][] = [
  ["", "Layouts"],
  ["spread", "A spread pool"],
  ["split", "Split by use"],
  ["buy", "What to buy"],
  ["saved", "Saved"],
];
export function Compare() {
  const q = useQuestion();
  const view = q.get("view");
  const answer = useQuery({
    queryKey: ["post", "/api/compare", q.body],
    // The answer keeps the question it is to: while the next one is worked out, both stay together.
    queryFn: async () => {
      const started = performance.now();
      const found = await ask(api.POST("/api/compare", { body: q.body }));
      tookSoLong(performance.now() - started);
      return { body: q.body, found };
    },
    placeholderData: keepPreviousData,
    // Every answer is new as a whole; looking for what has stayed the same costs more than it saves.
    structuralSharing: false,
    enabled: q.ready && view !== "saved",
    retry: false,
  });
  // Asked anew in vain, what was answered before stays, and what was measured of it.
  const failed = answer.isLoadingError ? answer.error : null;
  const bad = failed instanceof Problem ? failed : null;
  const found = answer.data?.found;
  const later = useDeferredValue(bad ? undefined : found);
  const settled = useDeferredValue(q);
  return (
    <>
      <Heading title="Compare layouts">
        <Text c="dimmed">Nothing is built here; figures change while you choose.</Text>
        {view === "" && later && q.ready && !bad && <Outward q={settled} found={later} />}
      </Heading>
      <nav className="views no-print" aria-label="Ways to compare">
        {VIEWS.map(([name, label]) => (
          <button
            key={name}
            type="button"
            aria-current={view === name ? "page" : undefined}
            onClick={() => q.put({ view: name || null })}
          >
            {label}
          </button>
        ))}
      </nav>
      {view === "saved" ? (
        <SavedList q={q} />
      ) : (
        <>
          {view === "" && q.get("saved") && (
            <SavedBanner id={q.get("saved")} layouts={found?.layouts ?? []} />
          )}
          <Needs q={q} error={failed} found={later} />
          <div style={{ marginTop: "1rem" }}>
            {view === "buy" ? (
              <Buy q={q} />
            ) : !q.ready ? (
              <Begin q={q} />
            ) : view === "spread" ? (
              <SpreadPool q={q} />
            ) : view === "split" ? (
              <SplitByUse q={q} />
            ) : failed &&
              (!FIELDS.has(bad?.field ?? "") || (bad?.field === "drives" && q.what === "shelves")) ? (
              <Trouble error={failed} />
            ) : bad ? null : !found ? (
              <Waiting />
            ) : (
              <Answer q={q} body={answer.data?.body ?? q.body} found={found} />
            )}
          </div>
        </>
      )}
    </>
  );
}

/** Questions to click, each worked through. */
const EXAMPLES: { name: string; about: string; asks: Record<string, string> }[] = [
  {
    name: "Four drives of 4 TB for an office",
    about: "General use; survives any one drive failure.",
    asks: { what: "what-if", "what-if": "4x4TB", workload: "general", survive: "1" },
  },
  {
    name: "Five of 4 TB and three of 8 TB, 20 TB needed",
    about: "Sizes that differ: what is left over, and what is not.",
    asks: { what: "what-if", "what-if": "5x4TB,3x8TB", need: "20 TB", survive: "1" },
  },
  {
    name: "Twelve drives in two boxes; survives the loss of either",
    about: "A whole shelf fails, and the data stay.",
    asks: { what: "what-if", "what-if": "6x8TB@oak,6x8TB@elm", survive_shelves: "1", workload: "media" },
  },
];

/** Nothing is asked yet: what to do first, and examples. */
function Begin({ q }: { q: Question }) {
  const drives = server.useQuery("get", "/api/shelves", { params: { query: { filter: "" } } }).data?.drives;
  return (
    <section className="paper" aria-label="Begin" style={{ padding: "1.6rem 1.4rem" }}>
      <p style={{ margin: "0 0 1rem" }}>
        {q.what === "what-if"
          ? "Type the drives you might have above, such as 5x4TB,3x8TB, and every way of laying them out appears here."
          : drives
            ? "No drives are chosen yet."
            : "There are no drives on the shelves yet. A comparison needs none: type those you might have."}{" "}
        {q.what !== "what-if" && drives ? <Link to="/shelves">Choose some on the shelves</Link> : null}
        {drives === 0 && <Link to="/shelves">Write down a shelf with drives</Link>}
      </p>
      <h2>Or begin with an example</h2>
      <div style={{ display: "grid", gap: "0.7rem", marginTop: "0.5rem", maxWidth: 780 }}>
        {EXAMPLES.map((one) => (
          <button key={one.name} type="button" className="example" onClick={() => q.put(one.asks)}>
            <strong>{one.name}</strong>
            <span className="faint"> · {one.about}</span>
          </button>
        ))}
      </div>
    </section>
  );
}

function picked(q: Question, found: Schema["CompareOut"]): Layout | undefined {
  return (
    found.layouts.find((l) => l.key === q.get("layout")) ??
    found.layouts.find((l) => l.key === found.recommended) ??
    found.layouts[0]
  );
}

function pinsOf(q: Question): string[] {
  return q.get("pins").split(",").filter(Boolean);
}

function Answer({ q, body, found }: { q: Question; body: Body; found: Schema["CompareOut"] }) {
  const { put } = q;
  const pins = q.get("pins");
  const pick = useCallback((key: string) => put({ layout: key }), [put]);
  const pin = useCallback(
    (key: string) =>
      put((now) => {
        const pinned = (now.get("pins") ?? "").split(",").filter(Boolean);
        const next = pinned.includes(key)
          ? pinned.filter((p) => p !== key)
          : [...pinned, key].slice(0, MOST_PINS);
        return { pins: next.join(",") };
      }),
    [put],
  );
  const layout = picked(q, found);
  // What stands under the table is drawn after it: the figures come first.
  const later = useDeferredValue(found);
  const shown = useDeferredValue(layout);
  const laterBody = useDeferredValue(body);
  if (!layout || !shown)
    return (
      <>
        <NothingMeets found={found} />
        <RuledOut found={found} open />
      </>
    );
  return (
    <>
      <Table found={found} body={body} pick={layout.key} pins={pins} onPick={pick} onPin={pin} />
      <Beside found={later} body={laterBody} pins={pins} beside={q.get("beside")} picked={shown} put={put} />
      <Chosen key={shown.key} layout={shown} body={laterBody} />
      <Measured body={laterBody} keys={[shown.key, ...pins.split(",").filter(Boolean)]} found={later} />
      <WideNarrow considered={later.considered} pick={shown.key} onPick={pick} />
      <RuledOut found={later} />
    </>
  );
}

const Table = memo(function Table({
  found,
  body,
  pick,
  pins,
  onPick,
  onPin,
}: {
  found: Schema["CompareOut"];
  body: Body;
  pick: string;
  pins: string;
  onPick: (key: string) => void;
  onPin: (key: string) => void;
}) {
  const suggested = found.layouts.find((l) => l.key === found.recommended);
  return (
    <section className="paper" style={{ padding: "0.4rem 0 0" }} aria-label="Layouts">
      <p style={{ margin: "0.5rem 1.2rem 0.6rem" }}>
        <strong className="pine">
          Suggested: {suggested && [nameOf(suggested), besides(suggested)].filter(Boolean).join("; ")}.
        </strong>{" "}
        {found.reason}
        {found.left_out.length > 0 && (
          <span className="faint"> {found.left_out.length} drives are left out so that bays stay free.</span>
        )}
      </p>
      <LayoutTable
        found={found}
        body={body}
        pick={pick}
        pins={pins.split(",").filter(Boolean)}
        onPick={onPick}
        onPin={onPin}
      />
    </section>
  );
});

/** What is pinned; with a saved comparison set beside, at least the layout that is looked at. */
const Beside = memo(function Beside({
  found,
  body,
  pins,
  beside,
  picked: shown,
  put,
}: {
  found: Schema["CompareOut"];
  body: Body;
  pins: string;
  beside: string;
  picked: Layout;
  put: Question["put"];
}) {
  const pinned = pins.split(",").flatMap((key) => found.layouts.find((l) => l.key === key) ?? []);
  return (
    <Pinned layouts={pinned.length || !beside ? pinned : [shown]} body={body} beside={beside} put={put} />
  );
});

/** Saving, sharing, printing, and taking the figures elsewhere. */
const Outward = memo(function Outward({ q, found }: { q: Question; found: Schema["CompareOut"] }) {
  const { system } = useUnits();
  const [saving, setSaving] = useState<ReturnType<Question["asItIs"]> | null>(null);
  const [said, setSaid] = useState("");
  const [trouble, setTrouble] = useState<unknown>(null);
  const [busy, setBusy] = useState(false);
  const may = useMay("prepare");
  const layout = picked(q, found);
  if (!layout) return null;
  const keys = [...new Set([layout.key, ...pinsOf(q)])].filter((k) => found.layouts.some((l) => l.key === k));
  const saved = q.get("saved");
  const file = (kind: string) => {
    setTrouble(null);
    const body = { ...q.asItIs().body, keys: keys.slice(0, MOST_PINS), binary: system === "binary" };
    setBusy(true);
    download(`/api/compare/export/${kind}`, body, `comparison.${kind}`)
      .catch(setTrouble)
      .finally(() => setBusy(false));
  };
  const share = async () => {
    const path = saved ? `/comparisons/${saved}` : `/compare?${q.asItIs().address}`;
    try {
      await navigator.clipboard.writeText(window.location.origin + path);
      setSaid("The link is copied; whoever can sign in sees the same.");
    } catch {
      setSaid(`Copy this link: ${window.location.origin}${path}`);
    }
  };
  return (
    <div className="no-print outward">
      {said && (
        <Text size="sm" role="status">
          {said}
        </Text>
      )}
      <Act size="xs" variant="default" why={may.why} onClick={() => setSaving(q.asItIs())}>
        Save…
      </Act>
      <Button size="xs" variant="default" onClick={share}>
        Share
      </Button>
      <Duplicate q={q} />
      <Menu position="bottom-end">
        <Menu.Target>
          <Button size="xs" variant="default" loading={busy}>
            Print or export
          </Button>
        </Menu.Target>
        <Menu.Dropdown>
          <Menu.Item onClick={() => window.print()}>Print this page</Menu.Item>
          <Menu.Item onClick={() => file("pdf")}>PDF for whoever pays</Menu.Item>
          <Menu.Item onClick={() => file("csv")}>Figures as CSV</Menu.Item>
          <Menu.Item onClick={() => file("json")}>Figures as JSON</Menu.Item>
        </Menu.Dropdown>
      </Menu>
      {trouble !== null && <Trouble error={trouble} />}
      {saving && (
        <SaveThis
          {...saving}
          keys={keys}
          onClose={() => setSaving(null)}
          onSaved={(row) => {
            setSaving(null);
            q.put({ saved: String(row.id) });
          }}
        />
      )}
    </div>
  );
});

/** The same drives as a what-if: change one and see, without touching what is there. */
function Duplicate({ q }: { q: Question }) {
  const drives = server.useQuery(
    "get",
    "/api/drives/by-id",
    { params: { query: { ids: q.drives.join(",") } } },
    { enabled: q.what === "shelves" && q.drives.length > 0 },
  );
  if (q.what !== "shelves") return null;
  const duplicate = () => {
    const groups = new Map<string, number>();
    for (const d of drives.data?.drives ?? []) {
      const size = d.size % 1e9 === 0 ? `${d.size / 1e12}TB` : `${d.size}`;
      const name = `${size} ${d.kind}${d.shelf ? `@${d.host ? `${d.host}/` : ""}${d.shelf}` : ""}`;
      groups.set(name, (groups.get(name) ?? 0) + 1);
    }
    const text = [...groups].map(([name, count]) => `${count}x${name}`).join(", ");
    q.put({ what: "what-if", "what-if": text, saved: null, layout: null });
  };
  return (
    <Button size="xs" variant="default" disabled={!drives.data} onClick={duplicate}>
      Duplicate as a what-if
    </Button>
  );
}

function NothingMeets({ found }: { found: Schema["CompareOut"] }) {
  return (
    <section className="paper" aria-label="Nearest layouts">
      <h2>No layout of these {found.drives} drives meets these needs</h2>
      {found.nearest.length > 0 && (
        <>
          <p style={{ margin: "0.3rem 0 0.5rem" }}>The nearest, and what is missing:</p>
          <table className="plain">
            <tbody>
              {found.nearest.map((n) => (
                <tr key={n.key}>
                  <td style={{ whiteSpace: "nowrap" }}>
                    <strong>{n.scheme}</strong>, {n.description}
                  </td>
                  <td className="num">
                    <Size bytes={n.usable} />
                  </td>
                  <td>{n.missing.join("; ")}.</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
      <p className="faint" style={{ margin: "0.6rem 0 0" }}>
        Ease a need, choose more drives on the <Link to="/shelves">shelves</Link>, or see{" "}
        <Link to="/compare?view=buy">what to buy</Link>.
      </p>
    </section>
  );
}

const RuledOut = memo(function RuledOut({
  found,
  open = false,
}: {
  found: Schema["CompareOut"];
  open?: boolean;
}) {
  if (!found.ruled_out.length) return null;
  return (
    <details className="paper" style={{ marginTop: "1rem" }} open={open}>
      <summary style={{ cursor: "pointer" }}>
        Ruled out: {found.ruled_out.length} {found.ruled_out.length === 1 ? "way" : "ways"}, and why
      </summary>
      <table className="plain" style={{ marginTop: "0.6rem" }}>
        <tbody>
          {found.ruled_out.map((r, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: a list that is replaced as a whole
            <tr key={i}>
              <td style={{ whiteSpace: "nowrap" }}>{r.scheme}</td>
              <td>{r.why}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </details>
  );
});
