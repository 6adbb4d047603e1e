/** All layouts in one table: sortable, each figure explained, up to four pinned for a closer look. */
import { Button, Tooltip } from "@mantine/core";
import { type ReactNode, useState } from "react";
import type { Schema } from "../../api/client";
import { Term } from "../../shared/parts";
import { TERMS } from "../../shared/terms";
import {
  formatChance,
  formatCount,
  formatMoney,
  formatSize,
  Size,
  shortHours,
  useUnits,
} from "../../shared/units";
import { TinyCurve } from "./Curve";
import { How } from "./How";
import { type Body, besides, type Layout, nameOf } from "./useQuestion";

export const MOST_PINS = 4;
/** Layouts shown at first. */
const FIRST = 12;

interface Column {
  id: string;
  term: keyof typeof TERMS;
  head: string;
  value: (l: Layout) => number | null;
  /** Less is better. */
  low?: boolean;
}

const COLUMNS: Column[] = [
  { id: "usable", term: "usable capacity", head: "usable", value: (l) => l.space.usable },
  { id: "guaranteed", term: "guaranteed", head: "sure", value: (l) => l.survives.guaranteed },
  { id: "best_case", term: "best case", head: "at best", value: (l) => l.survives.best_case },
  { id: "rebuild_hours", term: "rebuild", head: "rebuild", value: (l) => l.rebuild_hours, low: true },
  { id: "yearly_loss", term: "yearly loss", head: "loss a year", value: (l) => l.yearly_loss, low: true },
  {
    id: "yearly_damage",
    term: "yearly damage",
    head: "damage a year",
    value: (l) => l.yearly_damage,
    low: true,
  },
  {
    id: "random_write_rmw",
    term: "small writes",
    head: "small writes",
    value: (l) => l.speed.random_write_rmw,
  },
  {
    id: "sequential_write",
    term: "large files",
    head: "large files",
    value: (l) => l.speed.sequential_write,
  },
  { id: "cost", term: "cost per TB", head: "per TB", value: (l) => l.cost.per_usable_tb, low: true },
];

export function LayoutTable({
  found,
  body,
  pick,
  pins,
  onPick,
  onPin,
}: {
  found: Schema["CompareOut"];
  body: Body;
  pick?: string;
  pins: string[];
  onPick: (key: string) => void;
  onPin: (key: string) => void;
}) {
  const [sort, setSort] = useState<{ by: string; down: boolean } | null>(null);
  const priced = found.layouts.some((l) => l.cost.per_usable_tb !== null);
  const columns = COLUMNS.filter((c) => c.id !== "cost" || priced);
  const [all, setAll] = useState(false);
  const ordered = sorted(found.layouts, sort);
  // The first are what matters; drawing all of many at every change would make every change slow.
  const rows = all ? ordered : ordered.filter((l, i) => i < FIRST || l.key === pick || pins.includes(l.key));
  const most = Math.max(...found.layouts.map((l) => l.space.usable));
  const longest = Math.max(...found.layouts.map((l) => l.rebuild_hours ?? 0), 0.001);
  const turn = (column: Column) =>
    setSort((before) =>
      before?.by !== column.id
        ? { by: column.id, down: !column.low }
        : before.down === !column.low
          ? { by: column.id, down: !before.down }
          : null,
    );
  return (
    <div className="scroll-x layouts" tabIndex={0}>
      <table className="plain">
        <thead>
          <tr>
            <th aria-label="Pinned" />
            <th>
              <Term word="scheme">scheme</Term>
            </th>
            <th>drives</th>
            {columns.map((c) => (
              <th
                key={c.id}
                className="num"
                aria-sort={sort?.by === c.id ? (sort.down ? "descending" : "ascending") : undefined}
              >
                <Tooltip
                  label={TERMS[c.term]}
                  multiline
                  w={300}
                  withArrow
                  events={{ hover: true, focus: true, touch: false }}
                >
                  <button
                    type="button"
                    className="sort"
                    onClick={() => turn(c)}
                    aria-label={`Sort by ${c.head}`}
                  >
                    {sort?.by === c.id ? (sort.down ? "↓ " : "↑ ") : ""}
                    <span className="term">{c.head}</span>
                  </button>
                </Tooltip>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((layout) => (
            <Row
              key={layout.key}
              layout={layout}
              body={body}
              most={most}
              longest={longest}
              priced={priced}
              picked={layout.key === pick}
              best={layout.key === found.recommended}
              pinned={pins.includes(layout.key)}
              full={pins.length >= MOST_PINS}
              onPick={onPick}
              onPin={onPin}
            />
          ))}
        </tbody>
      </table>
      {rows.length < ordered.length && (
        <Button variant="subtle" size="compact-sm" my="xs" ml="sm" onClick={() => setAll(true)}>
          Show all {ordered.length} layouts
        </Button>
      )}
    </div>
  );
}

function sorted(layouts: Layout[], sort: { by: string; down: boolean } | null): Layout[] {
  const column = COLUMNS.find((c) => c.id === sort?.by);
  if (!sort || !column) return layouts;
  const worst = sort.down ? Number.NEGATIVE_INFINITY : Number.POSITIVE_INFINITY;
  const way = sort.down ? -1 : 1;
  return [...layouts].sort((a, b) => way * ((column.value(a) ?? worst) - (column.value(b) ?? worst)) || 0);
}

function Row({
  layout,
  body,
  most,
  longest,
  priced,
  picked,
  best,
  pinned,
  full,
  onPick,
  onPin,
}: {
  layout: Layout;
  body: Body;
  most: number;
  longest: number;
  priced: boolean;
  picked: boolean;
  best: boolean;
  pinned: boolean;
  full: boolean;
  onPick: (k: string) => void;
  onPin: (k: string) => void;
}) {
  const { system } = useUnits();
  const how = (figure: string, label: string, children: ReactNode) => (
    <How figure={figure} label={label} body={body} layout={layout}>
      {children}
    </How>
  );
  const extra = besides(layout);
  return (
    <tr
      className={picked ? "picked" : undefined}
      onClick={() => onPick(layout.key)}
      data-key={layout.key}
      title={
        layout.pareto
          ? "Unbeaten: no other layout is as good on everything and better on something"
          : undefined
      }
    >
      <td style={{ width: 26 }}>
        <input
          type="checkbox"
          aria-label={`Pin ${nameOf(layout)}${extra ? `, ${extra}` : ""}`}
          checked={pinned}
          disabled={full && !pinned}
          title={full && !pinned ? `At most ${MOST_PINS} side by side` : "Pin for a look side by side"}
          onClick={(e) => e.stopPropagation()}
          onChange={() => onPin(layout.key)}
        />
      </td>
      <td style={{ whiteSpace: "nowrap" }}>
        <button
          type="button"
          className="pick"
          aria-pressed={picked}
          onClick={(e) => {
            e.stopPropagation();
            onPick(layout.key);
          }}
          style={{ fontWeight: picked ? 650 : 500 }}
        >
          {layout.scheme}
        </button>{" "}
        <span className="faint">{layout.trade_name}</span>
        {best && <span className="pine"> · suggested</span>}
      </td>
      <td style={{ whiteSpace: "nowrap" }}>
        {layout.description}
        {extra && <span className="faint"> · {extra}</span>}
        {!layout.pareto && <span className="faint"> · beaten</span>}
      </td>
      <td className="num">
        <svg width="34" height="8" aria-hidden="true" style={{ marginRight: 8 }}>
          <rect
            width={Math.max(1, (34 * layout.space.usable) / most)}
            height="8"
            fill="var(--pine)"
            opacity="0.7"
          />
        </svg>
        {how("usable", "Usable capacity", <strong>{formatSize(layout.space.usable, system)}</strong>)}
      </td>
      <td className="num">{how("guaranteed", "Failures survived for sure", layout.survives.guaranteed)}</td>
      <td className="num">
        <TinyCurve curve={layout.survives.curve} />{" "}
        {how("best_case", "Failures survived at best", layout.survives.best_case)}
      </td>
      <td className="num">
        {layout.rebuild_hours === null ? (
          <span className="faint">–</span>
        ) : (
          <>
            <svg width="26" height="8" aria-hidden="true" style={{ marginRight: 6 }}>
              <path d="M0.5 0v8" stroke="var(--line)" />
              <rect
                y="2"
                width={Math.max(1, (26 * layout.rebuild_hours) / longest)}
                height="4"
                fill="var(--rust)"
                opacity="0.6"
              />
            </svg>
            {how("rebuild_hours", "Rebuild", shortHours(layout.rebuild_hours))}
          </>
        )}
      </td>
      <td className="num">
        {how("yearly_loss", "Chance of loss within a year", formatChance(layout.yearly_loss))}
      </td>
      <td className="num">
        {how("yearly_damage", "Chance of damage within a year", formatChance(layout.yearly_damage))}
      </td>
      <td className="num">
        {how("random_write_rmw", "Small writes", `${formatCount(layout.speed.random_write_rmw)}/s`)}
      </td>
      <td className="num">
        {how(
          "sequential_write",
          "Writing large files",
          <>
            <Size bytes={layout.speed.sequential_write} digits={1} />
            /s
          </>,
        )}
      </td>
      {priced && (
        <td className="num">
          {layout.cost.per_usable_tb === null
            ? "–"
            : how("cost", "Cost per usable TB", formatMoney(layout.cost.per_usable_tb, null))}
        </td>
      )}
    </tr>
  );
}
