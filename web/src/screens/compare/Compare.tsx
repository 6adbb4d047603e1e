/** Compare: what each way of laying the chosen drives out gives, in one table; one of them drawn. */
import { NumberInput, SegmentedControl, Select, Text, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, ask, Problem, type Schema } from "../../api/client";
import { Empty, errorOf, Heading, Term, Trouble, Waiting } from "../../shared/parts";
import { useSelection } from "../../shared/selection";
import { formatHours, Size } from "../../shared/units";
import { Chosen } from "./Chosen";

type Layout = Schema["LayoutOut"];

/** What is compared: drives on the shelves, or a what-if. All of it stands in the address. */
export interface Asked {
  drive_ids?: number[];
  shorthand?: string;
  file_system: string;
}

export function Compare() {
  const [params, setParams] = useSearchParams();
  const { ids } = useSelection();
  const get = (name: string) => params.get(name) ?? "";
  const put = (changes: Record<string, string | null>) =>
    setParams(
      (before) => {
        const after = new URLSearchParams(before);
        for (const [name, value] of Object.entries(changes)) {
          if (value) after.set(name, value);
          else after.delete(name);
        }
        return after;
      },
      { replace: true },
    );
  const what = get("what") || (ids.size || params.has("drives") ? "shelves" : "what-if");
  const drives = params.has("drives") ? get("drives").split(",").map(Number) : [...ids].sort((a, b) => a - b);
  const typed = get("what-if");
  const spares = params.has("spares") ? Number(get("spares")) : null;
  const asked: Asked =
    what === "what-if"
      ? { shorthand: typed, file_system: get("fs") || "ext4" }
      : { drive_ids: drives, file_system: get("fs") || "ext4" };
  const body = { ...asked, need: get("need"), survive: Number(get("survive") || 0), spares };
  const [settled] = useDebouncedValue(JSON.stringify(body), 40);
  const ready = what === "what-if" ? typed.trim() !== "" : drives.length > 0;
  const answer = useQuery({
    queryKey: ["compare", settled],
    queryFn: () => ask(api.POST("/api/compare", { body: JSON.parse(settled) })),
    placeholderData: keepPreviousData,
    enabled: ready,
    retry: false,
  });
  const systems = useQuery({
    queryKey: ["schemes"],
    queryFn: () => ask(api.GET("/api/schemes")),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const error = answer.error;
  const bad = error instanceof Problem ? error : null;
  const found = answer.data;
  const pick =
    found?.layouts.find((l) => l.key === get("layout"))?.key ?? found?.recommended ?? found?.layouts[0]?.key;
  const layout = found?.layouts.find((l) => l.key === pick);
  return (
    <>
      <Heading title="Compare layouts">
        <Text c="dimmed">Nothing is built here; figures change while you choose.</Text>
      </Heading>
      <div
        className="paper no-print"
        style={{ display: "flex", flexWrap: "wrap", gap: "0.8rem 1.4rem", alignItems: "flex-start" }}
      >
        <div style={{ flex: "1 1 330px" }}>
          <SegmentedControl
            aria-label="What to compare"
            value={what}
            onChange={(v) => put({ what: v })}
            data={[
              {
                value: "shelves",
                label: `Drives on the shelves${drives.length ? ` (${drives.length})` : ""}`,
              },
              { value: "what-if", label: "What-if" },
            ]}
          />
          {what === "what-if" ? (
            <TextInput
              mt="xs"
              label="Drives you might have"
              placeholder="5x4TB,3x8TB"
              value={typed}
              error={errorOf(error, "drives")}
              onChange={(e) => put({ what: "what-if", "what-if": e.currentTarget.value })}
            />
          ) : (
            <Text mt="sm" size="sm">
              {drives.length
                ? "Sets are filled by size, smallest first, so that drives alike stand together. "
                : ""}
              <Link to="/shelves">{drives.length ? "Choose others" : "Choose drives on the shelves"}</Link>
            </Text>
          )}
        </div>
        <TextInput
          label="Capacity needed"
          placeholder="such as 20 TB"
          w={150}
          value={get("need")}
          error={errorOf(error, "need")}
          onChange={(e) => put({ need: e.currentTarget.value })}
        />
        <NumberInput
          label="Failures to survive"
          w={150}
          min={0}
          max={9}
          value={Number(get("survive") || 0)}
          onChange={(v) => put({ survive: v ? String(v) : null })}
        />
        <Select
          label="Spares"
          w={150}
          value={get("spares") || "open"}
          onChange={(v) => put({ spares: v === "open" ? null : v })}
          data={[
            { value: "open", label: "none to two" },
            ...["0", "1", "2", "3", "4"].map((n) => ({ value: n, label: n === "0" ? "none" : n })),
          ]}
          error={errorOf(error, "spares")}
          allowDeselect={false}
        />
        <Select
          label="File system"
          w={140}
          value={asked.file_system}
          onChange={(v) => put({ fs: v })}
          data={(systems.data?.file_systems ?? []).map((f) => f.id)}
          description={undefined}
          allowDeselect={false}
        />
      </div>
      {!ready ? (
        <Empty act={what === "what-if" ? undefined : "Choose drives"} to="/shelves">
          {what === "what-if"
            ? "Type the drives you might have, such as 5x4TB,3x8TB, and every way of laying them out appears here."
            : "No drives are chosen yet. Choose some on the shelves, or type a what-if."}
        </Empty>
      ) : bad && !["drives", "need", "spares"].includes(bad.field ?? "") ? (
        <Trouble error={bad} />
      ) : bad ? null : !found ? (
        <Waiting />
      ) : (
        <>
          <Answer found={found} pick={pick} onPick={(key) => put({ layout: key })} />
          {layout && <Chosen key={layout.key} layout={layout} asked={asked} />}
          <RuledOut found={found} />
        </>
      )}
    </>
  );
}

function Answer({
  found,
  pick,
  onPick,
}: {
  found: Schema["CompareOut"];
  pick?: string;
  onPick: (key: string) => void;
}) {
  if (!found.layouts.length)
    return (
      <Empty>
        No layout of these {found.drives} drives meets these needs; below is what each falls short of.
      </Empty>
    );
  const most = Math.max(...found.layouts.map((l) => l.space.usable));
  return (
    <section className="paper" style={{ marginTop: "1rem", padding: "0.4rem 0 0" }} aria-label="Layouts">
      {found.reason && (
        <p style={{ margin: "0.5rem 1.2rem 0.6rem" }}>
          <strong style={{ color: "var(--pine)" }}>
            Suggested: {nameOf(found.layouts.find((l) => l.key === found.recommended))}.
          </strong>{" "}
          {found.reason}
        </p>
      )}
      <div className="scroll-x" tabIndex={0} style={{ maxHeight: 372, overflowY: "auto" }}>
        <table className="plain">
          <thead style={{ position: "sticky", top: 0, background: "var(--sheet)", zIndex: 1 }}>
            <tr>
              <th>
                <Term word="scheme">scheme</Term>
              </th>
              <th>drives</th>
              <th className="num">
                <Term word="usable capacity">usable</Term>
              </th>
              <th aria-label="Usable, drawn" />
              <th className="num">
                <Term word="guaranteed">survives, sure</Term>
              </th>
              <th className="num">
                <Term word="best case">at best</Term>
              </th>
              <th className="num">redundancy</th>
              <th className="num">uneven</th>
              <th className="num">
                <Term word="rebuild">rebuild</Term>
              </th>
            </tr>
          </thead>
          <tbody>
            {found.layouts.map((layout) => (
              <Row
                key={layout.key}
                layout={layout}
                most={most}
                picked={layout.key === pick}
                best={layout.key === found.recommended}
                onPick={onPick}
              />
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}

export function nameOf(layout?: Schema["FiguresOut"]): string {
  if (!layout) return "";
  return `${layout.scheme}${layout.trade_name ? ` (${layout.trade_name})` : ""}, ${layout.description}`;
}

function Row({
  layout,
  most,
  picked,
  best,
  onPick,
}: {
  layout: Layout;
  most: number;
  picked: boolean;
  best: boolean;
  onPick: (k: string) => void;
}) {
  return (
    <tr
      style={{
        background: picked ? "var(--pine-wash)" : undefined,
        cursor: "pointer",
        boxShadow: picked ? "inset 3px 0 0 var(--pine)" : undefined,
      }}
      onClick={() => onPick(layout.key)}
    >
      <td style={{ whiteSpace: "nowrap" }}>
        <button
          type="button"
          aria-pressed={picked}
          onClick={() => onPick(layout.key)}
          style={{ all: "unset", cursor: "pointer", fontWeight: picked ? 650 : 500 }}
        >
          {layout.scheme}
        </button>{" "}
        <span className="faint">{layout.trade_name}</span>
        {best && <span style={{ color: "var(--pine)" }}> · suggested</span>}
      </td>
      <td style={{ whiteSpace: "nowrap" }}>{layout.description}</td>
      <td className="num" style={{ fontWeight: 600 }}>
        <Size bytes={layout.space.usable} />
      </td>
      <td style={{ width: 110 }} aria-hidden="true">
        <svg width="100" height="8">
          <title>usable</title>
          <rect
            width={Math.max(1, (100 * layout.space.usable) / most)}
            height="8"
            fill="var(--pine)"
            opacity="0.75"
          />
        </svg>
      </td>
      <td className="num">{layout.survives.guaranteed}</td>
      <td className="num">{layout.survives.best_case}</td>
      <td className="num faint">
        <Size bytes={layout.space.redundancy} />
      </td>
      <td className="num faint">{layout.space.uneven ? <Size bytes={layout.space.uneven} /> : "–"}</td>
      <td className="num faint">{layout.rebuild_hours === null ? "–" : formatHours(layout.rebuild_hours)}</td>
    </tr>
  );
}

function RuledOut({ found }: { found: Schema["CompareOut"] }) {
  if (!found.ruled_out.length) return null;
  return (
    <details className="paper" style={{ marginTop: "1rem" }} open={!found.layouts.length}>
      <summary style={{ cursor: "pointer" }}>
        Ruled out: {found.ruled_out.length} {found.ruled_out.length === 1 ? "way" : "ways"}, and why
      </summary>
      <table className="plain" style={{ marginTop: "0.6rem" }}>
        <tbody>
          {found.ruled_out.map((r) => (
            <tr key={`${r.scheme}-${r.why}`}>
              <td style={{ whiteSpace: "nowrap" }}>{r.scheme}</td>
              <td>{r.why}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </details>
  );
}
