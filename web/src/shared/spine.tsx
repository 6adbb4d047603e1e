/**
 * A drive as the spine of a book: constant width, height by capacity on its site's one scale, bay at
 * the foot, size up the spine. The foot's shape tells the kind, posture and a word tell the situation,
 * pattern and tint and name tell the pool.
 */
import type { Schema } from "../api/client";
import { shortSize, type UnitSystem } from "./units";

export type Drive = Schema["DriveOut"];

const SPINE_WIDTH = 34;
export const BAY_WIDTH = 50;
export const TALLEST = 132;
const SHORTEST = 46;

/** Height of a drive of so many bytes where the site's largest has `largest`. */
function spineHeight(size: number, largest: number): number {
  return Math.round(SHORTEST + (TALLEST - SHORTEST) * Math.min(1, size / Math.max(1, largest)));
}

const TINTS = ["#7f9b6f", "#b9905a", "#7a8fae", "#a67a86", "#8c8a5c", "#6f9a9a", "#a3886f", "#8d7fa6"];

export function tintOf(index: number | null): string {
  return TINTS[(index ?? 0) % TINTS.length];
}

/** Eight patterns, one with each tint; drawn once a page. */
export function SpinePatterns() {
  const marks = [
    <path key="0" d="M0 4h8" />,
    <path key="1" d="M0 8L8 0" />,
    <circle key="2" cx="4" cy="4" r="1.1" />,
    <path key="3" d="M4 0v8" />,
    <path key="4" d="M0 4h8M4 0v8" />,
    <path key="5" d="M0 0l8 8" />,
    <path key="6" d="M0 6l4-4 4 4" />,
    <path key="7" d="M0 2h4M4 6h4" />,
  ];
  return (
    <svg width="0" height="0" style={{ position: "absolute" }} aria-hidden="true">
      <title>Patterns</title>
      <defs>
        {marks.map((mark, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: the patterns never change places
          <pattern key={i} id={`pool-${i}`} width="8" height="8" patternUnits="userSpaceOnUse">
            <rect width="8" height="8" fill={TINTS[i]} opacity="0.42" />
            <g stroke="var(--ink)" fill="none" strokeWidth="0.8" opacity="0.5">
              {mark}
            </g>
          </pattern>
        ))}
        <pattern id="hatch" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <path d="M0 0v6" stroke="var(--hatch)" strokeWidth="1.6" opacity="0.55" />
        </pattern>
      </defs>
    </svg>
  );
}

/** The outline of a spine whose top left is at 0,0: rotating drives have a round foot, flash a square
 * one, flash on PCIe a notched one. */
export function spinePath(kind: string, height: number, width = SPINE_WIDTH): string {
  const top = `M3 0H${width - 3}Q${width} 0 ${width} 3V`;
  if (kind === "hdd") {
    return `${top}${height - 9}Q${width} ${height} ${width - 9} ${height}H9Q0 ${height} 0 ${height - 9}V3Q0 0 3 0Z`;
  }
  if (kind === "nvme") {
    const m = width / 2;
    return `${top}${height}H${m + 6}L${m} ${height - 8}L${m - 6} ${height}H0V3Q0 0 3 0Z`;
  }
  return `${top}${height}H0V3Q0 0 3 0Z`;
}

/** The one word under a spine. */
export function situationWord(drive: Drive): string {
  for (const word of [
    "offline",
    "missing",
    "failed",
    "wiping",
    "draining",
    "rebuilding",
    "failing",
    "warns",
    "spare",
    "new",
    "wiped",
    "free",
    "starts-host",
  ]) {
    if (drive.situations.includes(word)) return word === "starts-host" ? "system" : word;
  }
  return drive.pool ?? "in use";
}

interface SpineProps {
  drive: Drive;
  largest: number;
  system: UnitSystem;
  selected: boolean;
}

/** The drawing itself, standing on y = TALLEST + 14. */
export function SpineDrawing({ drive, largest, system, selected }: SpineProps) {
  const height = spineHeight(drive.size, largest);
  const has = (word: string) => drive.situations.includes(word);
  const left = (BAY_WIDTH - SPINE_WIDTH) / 2;
  const top = TALLEST + 8 - height;
  const forward = has("free") || has("new") ? 7 : 0;
  const lean = has("failed") ? `rotate(9 ${SPINE_WIDTH} ${height})` : "";
  const fill = drive.pool_id === null ? "var(--spine)" : `url(#pool-${(drive.tint ?? 0) % 8})`;
  if (has("offline")) {
    return (
      <path
        d={spinePath(drive.kind, height)}
        transform={`translate(${left} ${top})`}
        fill="var(--line)"
        fillOpacity="0.45"
        stroke="var(--faint)"
        strokeDasharray="1.5 3"
        strokeWidth={selected ? 3 : 1.2}
      />
    );
  }
  if (has("missing")) {
    return (
      <path
        d={spinePath(drive.kind, height)}
        transform={`translate(${left} ${top})`}
        fill="none"
        stroke="var(--rust)"
        strokeWidth="1.4"
        strokeDasharray="4 4"
      />
    );
  }
  return (
    <g transform={`translate(${left} ${top + forward}) ${lean}`}>
      <path d={spinePath(drive.kind, height)} fill="var(--sheet)" />
      <path
        d={spinePath(drive.kind, height)}
        fill={fill}
        strokeDasharray={has("draining") && !selected ? "5 3" : undefined}
        stroke={
          selected
            ? "var(--pine)"
            : has("failed") || has("failing") || has("warns")
              ? "var(--rust)"
              : "var(--ink)"
        }
        strokeWidth={selected ? 3 : 1}
      />
      {(has("wiping") || has("wiped")) && (
        <path
          d={`M1 3h${SPINE_WIDTH - 2}v${(height - 6) * (has("wiped") ? 1 : 0.5)}h${2 - SPINE_WIDTH}z`}
          fill="var(--sheet)"
        />
      )}
      {drive.lit && (
        <g stroke="var(--rust)" strokeWidth="1.6">
          <circle cx={SPINE_WIDTH / 2} cy={-9} r="3.2" fill="var(--rust)" stroke="none" />
          <path d={`M${SPINE_WIDTH / 2 - 9} -9h4M${SPINE_WIDTH / 2 + 5} -9h4M${SPINE_WIDTH / 2} -18v4`} />
          <title>its lamp is lit</title>
        </g>
      )}
      {has("spare") && (
        <rect
          x="0"
          y={height / 2 - 7}
          width={SPINE_WIDTH}
          height="14"
          fill="var(--sheet)"
          stroke="var(--ink)"
        />
      )}
      {has("new") && <path d={`M${SPINE_WIDTH - 11} 0h6v13l-3-3-3 3z`} fill="var(--rust)" />}
      {drive.holds && drive.pool_id === null && (
        <path
          d={`M5 ${height - 20}h${SPINE_WIDTH - 10}M5 ${height - 16}h${SPINE_WIDTH - 14}`}
          stroke="var(--ink)"
          opacity="0.6"
        />
      )}
      <text
        transform={`translate(${SPINE_WIDTH / 2 + 4.5} ${has("spare") ? height / 2 - 11 : height - 24}) rotate(-90)`}
        fontSize="12.5"
        fill="var(--ink)"
        paintOrder="stroke"
        stroke={drive.pool_id === null ? "none" : "var(--sheet)"}
        strokeWidth="3"
        strokeLinejoin="round"
      >
        {shortSize(drive.size, system)}
      </text>
    </g>
  );
}
