/** All layouts in one table: sortable, each figure explained, up to four pinned for a closer look. */
import { Button, Tooltip } from "@mantine/core";
import { memo, type ReactNode, useCallback, useMemo, useState } from "react";
import type { Schema } from "../../api/client";
import { Term } from "../../shared/parts";
import { TinyCurve } from "./Curve";
import { type Figure, FigureValue, figureOf, useFigures } from "./figures";
import { type Body, besides, type Layout, nameOf } from "./useQuestion";

export const MOST_PINS = 4;
/** Layouts shown at first. */
const FIRST = 12;

/** What a value is drawn with, where a picture says more: how it stands beside the largest of the list. */
const DRAWN: Record<string, (layout: Layout, most: number) => ReactNode> = {
  usable: (layout, most) => (
    <svg width="34" height="8" aria-hidden="true" style={{ marginRight: 8 }}>
      <rect
        width={Math.max(1, (34 * layout.space.usable) / most)}
        height="8"
        fill="var(--pine)"
        opacity="0.7"
      />
    </svg>
  ),
  best_case: (layout) => <TinyCurve curve={layout.survives.curve} />,
  rebuild_hours: (layout, most) =>
    layout.rebuild_hours !== null && (
      <svg width="26" height="8" aria-hidden="true" style={{ marginRight: 6 }}>
        <path d="M0.5 0v8" stroke="var(--line)" />
        <rect
          y="2"
          width={Math.max(1, (26 * layout.rebuild_hours) / most)}
          height="4"
          fill="var(--rust)"
          opacity="0.6"
        />
      </svg>
    ),
};

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
  const [sort, setSort] = useState<Sort | null>(null);
  const figures = useFigures();
  const shown = figures.filter((f) => f.listed && found.layouts.some((l) => figureOf(l, f) !== null));
  // The same as long as the same are listed, so that the head is not drawn anew with every change.
  const names = shown.map((f) => f.id).join(",");
  const listed = useMemo(() => figures.filter((f) => names.split(",").includes(f.id)), [figures, names]);
  const columns = listed.map((figure) => ({
    figure,
    most: Math.max(...found.layouts.map((l) => figureOf(l, figure) ?? 0), 0.001),
  }));
  const [all, setAll] = useState(false);
  const ordered = sorted(found.layouts, listed, sort);
  // The first are what matters; drawing all of many at every change would make every change slow.
  const rows = all ? ordered : ordered.filter((l, i) => i < FIRST || l.key === pick || pins.includes(l.key));
  const turn = useCallback(
    ({ id, more_is_better: down }: Figure) =>
      setSort((before) =>
        before?.by !== id ? { by: id, down } : before.down === down ? { by: id, down: !down } : null,
      ),
    [],
  );
  return (
    <div className="scroll-x layouts" tabIndex={0}>
      <table className="plain">
        <Head listed={listed} sort={sort} onTurn={turn} />
        <tbody>
          {rows.map((layout) => (
            <Row
              key={layout.key}
              layout={layout}
              body={body}
              columns={columns}
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

interface Sort {
  by: string;
  down: boolean;
}

const Head = memo(function Head({
  listed,
  sort,
  onTurn,
}: {
  listed: Figure[];
  sort: Sort | null;
  onTurn: (figure: Figure) => void;
}) {
  return (
    <thead>
      <tr>
        <th aria-label="Pinned" />
        <th>
          <Term word="scheme">scheme</Term>
        </th>
        <th>drives</th>
        {listed.map((c) => (
          <th
            key={c.id}
            className="num"
            aria-sort={sort?.by === c.id ? (sort.down ? "descending" : "ascending") : undefined}
          >
            <Tooltip
              label={c.meaning}
              multiline
              w={300}
              withArrow
              events={{ hover: true, focus: true, touch: false }}
            >
              <button
                type="button"
                className="sort"
                onClick={() => onTurn(c)}
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
  );
});

function sorted(layouts: Layout[], figures: Figure[], sort: Sort | null): Layout[] {
  const figure = figures.find((f) => f.id === sort?.by);
  if (!sort || !figure) return layouts;
  const worst = sort.down ? Number.NEGATIVE_INFINITY : Number.POSITIVE_INFINITY;
  const way = sort.down ? -1 : 1;
  return [...layouts].sort(
    (a, b) => way * ((figureOf(a, figure) ?? worst) - (figureOf(b, figure) ?? worst)) || 0,
  );
}

function Row({
  layout,
  body,
  columns,
  picked,
  best,
  pinned,
  full,
  onPick,
  onPin,
}: {
  layout: Layout;
  body: Body;
  columns: { figure: Figure; most: number }[];
  picked: boolean;
  best: boolean;
  pinned: boolean;
  full: boolean;
  onPick: (k: string) => void;
  onPin: (k: string) => void;
}) {
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
      {columns.map(({ figure, most }) => (
        <td className="num" key={figure.id}>
          {DRAWN[figure.id]?.(layout, most)}{" "}
          <FigureValue figure={figure} layout={layout} body={body} short among />
        </td>
      ))}
    </tr>
  );
}
