/** The same drives in few wide or many narrow sets: capacity, small writes, rebuild and odds in one picture. */
import { SegmentedControl } from "@mantine/core";
import { memo, useState } from "react";
import type { Schema } from "../../api/client";
import { SvgButton } from "../../shared/SvgButton";
import { formatChance, formatCount, formatHours, formatSize, useUnits } from "../../shared/units";

type Point = Schema["ConsideredOut"];

const ROW = 62;
const LEFT = 118;

export const WideNarrow = memo(function WideNarrow({
  considered,
  pick,
  onPick,
}: {
  considered: Point[];
  pick?: string;
  onPick: (key: string) => void;
}) {
  const { system } = useUnits();
  const picked = considered.find((p) => p.key === pick);
  const families = ["parity-1", "parity-2", "parity-3"].filter((s) => considered.some((p) => p.scheme === s));
  const [asked, setAsked] = useState<string | null>(null);
  const scheme =
    asked && families.includes(asked)
      ? asked
      : families.includes(picked?.scheme ?? "")
        ? (picked?.scheme ?? "")
        : families.includes("parity-2")
          ? "parity-2"
          : families[0];
  const points = pointsOf(considered, scheme, picked?.spares ?? 0);
  if (points.length < 2) return null;
  const step = Math.max(64, Math.min(120, 900 / points.length));
  const most = Math.max(...points.map((p) => p.usable));
  const writes = Math.max(...points.flatMap((p) => [p.random_write_rmw, p.random_write_whole_stripe]));
  const longest = Math.max(...points.map((p) => p.rebuild_hours ?? 0), 0.001);
  const worst = Math.max(...points.map((p) => -Math.log10(Math.max(p.yearly_damage, 1e-15))));
  const rows: { name: string; share: (p: Point) => number; text: (p: Point) => string; fill: string }[] = [
    {
      name: "usable",
      share: (p) => p.usable / most,
      text: (p) => formatSize(p.usable, system, 1),
      fill: "var(--pine)",
    },
    {
      name: "small writes, part",
      share: (p) => p.random_write_rmw / writes,
      text: (p) => `${formatCount(p.random_write_rmw)}/s`,
      fill: "var(--board)",
    },
    {
      name: "whole stripes",
      share: (p) => p.random_write_whole_stripe / writes,
      text: (p) => `${formatCount(p.random_write_whole_stripe)}/s`,
      fill: "var(--board)",
    },
    {
      name: "rebuild, in use",
      share: (p) => (p.rebuild_hours ?? 0) / longest,
      text: (p) => (p.rebuild_hours === null ? "none" : formatHours(p.rebuild_hours)),
      fill: "var(--rust)",
    },
    {
      name: "damage a year",
      share: (p) => -Math.log10(Math.max(p.yearly_damage, 1e-15)) / worst,
      text: (p) => formatChance(p.yearly_damage),
      fill: "url(#hatch)",
    },
  ];
  const width = LEFT + points.length * step + 8;
  return (
    <section className="paper later" aria-label="Wide or narrow sets" style={{ marginTop: "1rem" }}>
      <div style={{ display: "flex", gap: "1rem", alignItems: "center", flexWrap: "wrap" }}>
        <h2>Wide or narrow sets</h2>
        <span className="faint">
          The same drives, divided differently; the taller the hatched bar, the safer. Click a column to look
          at it.
        </span>
        {families.length > 1 && (
          <SegmentedControl
            className="no-print"
            size="xs"
            ml="auto"
            aria-label="Scheme of the picture"
            value={scheme}
            onChange={setAsked}
            data={families}
          />
        )}
      </div>
      <div className="scroll-x" tabIndex={0}>
        <svg width={width} height={rows.length * ROW + 50} role="group" aria-label="Wide or narrow, drawn">
          {rows.map((row, r) => (
            <g key={row.name} transform={`translate(0 ${r * ROW + 8})`}>
              <text x="0" y={ROW - 18} fontSize="12.5" fill="var(--ink)">
                {row.name}
              </text>
              <path d={`M${LEFT - 10} ${ROW - 12.5}H${width}`} stroke="var(--line)" />
              {points.map((p, i) => {
                const high = Math.max(1, (ROW - 30) * row.share(p));
                const x = LEFT + i * step;
                return (
                  <g key={p.key} opacity={p.meets ? 1 : 0.45}>
                    <rect
                      x={x + step * 0.22}
                      y={ROW - 12 - high}
                      width={step * 0.5}
                      height={high}
                      fill={row.fill}
                      stroke={row.fill.startsWith("url") ? "var(--ink)" : "none"}
                      strokeWidth="0.7"
                    />
                    <text
                      x={x + step * 0.47}
                      y={ROW - 16 - high}
                      fontSize="11"
                      textAnchor="middle"
                      fill="var(--ink)"
                    >
                      {row.text(p)}
                    </text>
                  </g>
                );
              })}
            </g>
          ))}
          {points.map((p, i) => {
            const x = LEFT + i * step;
            const y = rows.length * ROW + 14;
            const name = `${p.scheme}: ${p.sets} × ${p.width}`;
            return (
              <SvgButton
                key={p.key}
                name={`${name}${p.meets ? "" : ", ruled out by the needs"}`}
                pressed={p.key === pick}
                onPress={p.meets ? () => onPick(p.key) : undefined}
              >
                <rect
                  x={x + 2}
                  y="2"
                  width={step - 6}
                  height={y + 30}
                  fill="transparent"
                  stroke={p.key === pick ? "var(--pine)" : "none"}
                  strokeWidth="1.6"
                  rx="3"
                />
                <text
                  x={x + step * 0.47}
                  y={y}
                  fontSize="12"
                  textAnchor="middle"
                  fontWeight={p.key === pick ? 650 : 400}
                  fill="var(--ink)"
                >
                  {p.sets} × {p.width}
                </text>
                <text x={x + step * 0.47} y={y + 16} fontSize="11" textAnchor="middle" fill="var(--faint)">
                  {p.meets
                    ? p.scheme === "copies-2"
                      ? "pairs"
                      : p.scheme === "copies-3"
                        ? "threes"
                        : ""
                    : "ruled out"}
                </text>
              </SvgButton>
            );
          })}
        </svg>
      </div>
    </section>
  );
});

/** Pairs, threes, then the scheme from narrow to wide; all with as many spares as the picked one. */
function pointsOf(considered: Point[], scheme: string, spares: number): Point[] {
  const found = new Map<string, Point>();
  for (const p of considered) {
    if (p.spares !== spares || !["copies-2", "copies-3", scheme].includes(p.scheme)) continue;
    const place = `${p.scheme}:${p.width}`;
    if (!found.has(place)) found.set(place, p);
  }
  const order = (p: Point) => (p.scheme === scheme ? 1000 + p.width : p.width);
  return [...found.values()].sort((a, b) => order(a) - order(b));
}
