/** The figures of a layout, as the server lists them: what they are called, their unit, and which way is better. */
import { Tooltip } from "@mantine/core";
import type { ReactNode } from "react";
import type { Schema } from "../../api/client";
import { useKinds } from "../../shared/me";
import {
  formatChance,
  formatCount,
  formatHours,
  formatMoney,
  formatSize,
  shortHours,
  type UnitSystem,
  useUnits,
} from "../../shared/units";
import { How } from "./How";
import { type Body, besides, type Layout, nameOf } from "./useQuestion";

export type Figure = Schema["LayoutFigureOut"];

export function useFigures(): Figure[] {
  return useKinds()?.figures ?? [];
}

export function figureOf(layout: Layout, figure: Figure): number | null {
  return layout.figures[figure.id] ?? null;
}

/** A figure's value for people; `short` where it stands in a narrow column. */
export function formatFigure(
  figure: Figure,
  value: number | null,
  system: UnitSystem,
  { short = false, currency = null as string | null } = {},
): string {
  if (value === null) return "–";
  switch (figure.unit) {
    case "bytes":
      return formatSize(value, system);
    case "bytes a second":
      return `${formatSize(value, system, 1)}/s`;
    case "operations a second":
      return `${formatCount(value)}/s`;
    case "drives":
      return String(value);
    case "hours":
      return short ? shortHours(value) : value < 2 * 8766 ? formatHours(value) : years(value);
    case "chance":
      return formatChance(value);
    case "share":
      return `${(value * 100).toFixed(1)} %`;
    case "money":
      return formatMoney(value, short ? null : currency);
    case "watts":
      return `${Math.round(value)} W`;
  }
}

/** Two figures, never with an exponent: 1.2, 12, 120. */
function roundly(value: number): string {
  return value < 10 ? value.toFixed(1) : formatCount(Number(value.toPrecision(2)));
}

function years(hours: number): string {
  const count = hours / 8766;
  return count >= 1e6 ? `${roundly(count / 1e6)} million years` : `${formatCount(count)} years`;
}

/** The word for a figure, with what it means. */
export function Meaning({ figure, children }: { figure: Figure; children: ReactNode }) {
  return (
    <Tooltip
      label={figure.meaning}
      multiline
      w={300}
      withArrow
      events={{ hover: true, focus: true, touch: true }}
    >
      <span className="term" tabIndex={0}>
        {children}
      </span>
    </Tooltip>
  );
}

/** A figure of a layout; where the server can say how it is worked out, it can be asked. */
export function FigureValue({
  figure,
  layout,
  body,
  short,
  among,
  none = "–",
}: {
  figure: Figure;
  layout: Layout;
  body: Body;
  short?: boolean;
  /** Several layouts show it: who hears it instead of seeing it is told of which this one is. */
  among?: boolean;
  /** What is said where the layout has no such figure. */
  none?: string;
}) {
  const { system } = useUnits();
  const value = figureOf(layout, figure);
  if (value === null) return <span className="faint">{none}</span>;
  const text = formatFigure(figure, value, system, { short, currency: layout.cost.currency });
  if (!figure.explained) return text;
  const label = among ? `${figure.label}, ${nameOf(layout)}, ${besides(layout)}` : figure.label;
  return (
    <How figure={figure.id} label={label} body={body} layout={layout}>
      {text}
    </How>
  );
}
