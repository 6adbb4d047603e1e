/** Drives as spines to pick from: one that is picked stands further forward. */
import type { ReactNode } from "react";
import { SvgButton } from "./SvgButton";
import { spinePath } from "./spine";
import { shortSize, useUnits } from "./units";

export type Pickable = {
  id: number;
  shelf: string | null;
  place: string;
  serial: string;
  size: number;
  kind: string;
};

/** The word under a spine, and how it is written. */
export type Word = { text: string; colour: string };

const WIDE = 66;

export function PickSpines<T extends Pickable>({
  drives,
  picked,
  onPick,
  named,
  said,
  word,
  blank,
  marks,
}: {
  drives: T[];
  picked: number[];
  onPick: (id: number) => void;
  /** How a reader of the screen hears it, after its place and size. */
  named: (drive: T) => string;
  /** On hover, after its place and serial. */
  said: (drive: T) => string;
  word: (drive: T) => Word;
  /** Whether nothing is on it. */
  blank?: (drive: T) => boolean;
  /** What is drawn on the spine, `tall` high. */
  marks?: (drive: T, tall: number) => ReactNode;
}) {
  const { system } = useUnits();
  const largest = Math.max(1, ...drives.map((d) => d.size));
  return (
    <div className="picks">
      {drives.map((d) => {
        const tall = Math.round(44 + 44 * (d.size / largest));
        const chosen = picked.includes(d.id);
        const under = word(d);
        return (
          <svg key={d.id} width={WIDE} height={136} role="presentation">
            <title>{`${d.place} · ${d.serial}${said(d)}`}</title>
            <SvgButton
              name={`${d.place}, ${d.serial}, ${shortSize(d.size, system)}${named(d)}`}
              pressed={chosen}
              onPress={() => onPick(d.id)}
            >
              <rect width={WIDE} height={136} fill="transparent" />
              <g transform={`translate(16 ${92 - tall + (chosen ? 9 : 0)})`}>
                <path
                  d={spinePath(d.kind, tall)}
                  fill={blank?.(d) ? "var(--sheet)" : "var(--spine)"}
                  stroke={chosen ? "var(--pine)" : "var(--ink)"}
                  strokeWidth={chosen ? 3 : 1}
                />
                {marks?.(d, tall)}
                <text transform={`translate(21.5 ${tall - 19}) rotate(-90)`} fontSize="12" fill="var(--ink)">
                  {shortSize(d.size, system)}
                </text>
              </g>
              <text x={WIDE / 2} y="116" fontSize="11" textAnchor="middle" fill="var(--ink)">
                {bayOf(d)}
              </text>
              <text x={WIDE / 2} y="130" fontSize="10.5" textAnchor="middle" fill={under.colour}>
                {under.text}
              </text>
            </SvgButton>
          </svg>
        );
      })}
    </div>
  );
}

function bayOf(d: Pickable): string {
  const bay = /bay (\d+)$/.exec(d.place)?.[1];
  return bay && d.shelf ? `${d.shelf.length > 10 ? `${d.shelf.slice(0, 9)}.` : d.shelf} ${bay}` : d.serial;
}
