/** Capacity as a ruler: ticks at whole terabytes, what is written in ink, what is allocated to volumes in wash, thresholds
 * as notches in its edge, and when it will be full. */
import type { ReactNode } from "react";
import type { Schema } from "../api/client";
import { formatSize, shortSize, type UnitSystem, useUnits } from "./units";

export interface Measured {
  capacity: number;
  /** In wash. */
  given?: number;
  /** In ink. */
  written: number;
  tell?: number;
  urgent?: number;
  /** Held back at its end. */
  held?: number;
}

export function Ruler({
  capacity,
  given = 0,
  written,
  tell,
  urgent,
  held = 0,
  numbers = false,
  label,
}: Measured & { numbers?: boolean; label: string }) {
  const { system } = useUnits();
  const of = (bytes: number) => `${Math.min(100, (100 * bytes) / Math.max(1, capacity))}%`;
  const { ticks, unit } = ticksOf(capacity, system);
  const said = [
    `${label}: ${formatSize(capacity, system)}`,
    `${formatSize(written, system)} written`,
    given > written && `${formatSize(given, system)} allocated to volumes`,
    tell !== undefined && `told at ${Math.round(tell * 100)} %`,
  ].filter(Boolean);
  return (
    <svg
      width="100%"
      height={numbers ? 44 : 28}
      role="img"
      aria-label={said.join(", ")}
      style={{ display: "block", overflow: "visible" }}
    >
      <rect x="0" y="0.5" width="100%" height="25" rx="1.5" fill="var(--sheet)" stroke="var(--board)" />
      <rect x="0" y="1" width={of(given)} height="24" fill="var(--wash)" />
      <rect x="0" y="14" width={of(written)} height="11" fill="var(--ink)" opacity="0.82" />
      {held > 0 && (
        <rect x={of(capacity - held)} y="1" width={of(held)} height="24" fill="url(#hatch)" opacity="0.7" />
      )}
      {ticks.map(({ at, long }) => (
        <svg key={at} x={of(at)} y="0" overflow="visible" aria-hidden="true">
          <path d={`M0 1V${long ? 10 : 6}`} stroke="var(--faint)" strokeWidth={long ? 1.1 : 0.8} />
          {numbers && long && (
            <text y="39" textAnchor="middle" fontSize="11" fill="var(--faint)">
              {at / unit}
            </text>
          )}
        </svg>
      ))}
      {numbers && (
        <text x="100%" y="39" textAnchor="end" fontSize="11" fill="var(--faint)">
          {shortSize(capacity, system)}
        </text>
      )}
      {[tell, urgent].map(
        (share, at) =>
          share !== undefined && (
            <svg
              key={at === 0 ? "tell" : "urgent"}
              x={`${share * 100}%`}
              y="0"
              overflow="visible"
              aria-hidden="true"
            >
              <title>{at === 0 ? "you are told here" : "it presses from here on"}</title>
              <path d="M-4.5 26.5L0 19L4.5 26.5Z" fill="var(--sheet)" stroke="none" />
              <path
                d="M-4.5 26L0 19L4.5 26"
                fill={at === 0 ? "var(--sheet)" : "var(--rust)"}
                stroke={at === 0 ? "var(--faint)" : "var(--sheet)"}
              />
            </svg>
          ),
      )}
    </svg>
  );
}

/** Ticks at whole units, so many that they can be told apart; a number is at the longer ones. */
function ticksOf(
  capacity: number,
  system: UnitSystem,
): { ticks: { at: number; long: boolean }[]; unit: number } {
  const base = system === "decimal" ? 1000 : 1024;
  let unit = base ** 4;
  while (unit > base && capacity < 3 * unit) unit /= base;
  const whole = capacity / unit;
  const step = [1, 2, 5, 10, 20, 50, 100, 200, 500, 1000].find((s) => whole / s <= 30) ?? 5000;
  const many = Math.ceil(whole / step) - 1;
  const each = many > 12 ? 5 : many > 6 ? 2 : 1;
  const ticks = Array.from({ length: Math.max(0, many) }, (_, i) => ({
    at: (i + 1) * step * unit,
    long: (i + 1) % each === 0 && (whole - (i + 1) * step) / whole > 0.15,
  }));
  return { ticks, unit };
}

/** The ruler of a pool. */
export function PoolRuler({ glance, numbers }: { glance: Schema["GlanceOut"]; numbers?: boolean }) {
  return (
    <Ruler
      label={`Pool ${glance.name}`}
      capacity={glance.capacity}
      given={glance.given}
      written={glance.footprint}
      tell={glance.thin ? glance.tell : undefined}
      urgent={glance.thin ? glance.urgent : undefined}
      numbers={numbers}
    />
  );
}

const day = (iso: string) => {
  const at = new Date(iso);
  const pad = (n: number) => String(n).padStart(2, "0");
  return `${at.getFullYear()}-${pad(at.getMonth() + 1)}-${pad(at.getDate())}`;
};

/** When something will be full, with how sure that is; or why no day is said. */
export function fills(outlook: Schema["OutlookOut"] | null | undefined): string | null {
  if (!outlook) return null;
  const of = outlook.of ? `volume ${outlook.of}` : "";
  if (outlook.at && outlook.earliest) {
    const [first, at] = [day(outlook.earliest), day(outlook.at)];
    const last = outlook.latest ? day(outlook.latest) : null;
    const sure = first === at && last === at ? "" : ` (${first} to ${last ?? "never"}, 95 % sure)`;
    return `${of && `${of} `}full about ${at}${sure}`;
  }
  return outlook.why_none ? `no day of filling${of && ` of ${of}`}: ${outlook.why_none}` : null;
}

/** What something grows by, a day. */
export function useGrowth(outlook: Schema["OutlookOut"] | null | undefined): string | null {
  const { system } = useUnits();
  if (outlook?.growth == null || Math.abs(outlook.growth) < 1) return null;
  return `${outlook.growth > 0 ? "grows" : "shrinks"} by ${formatSize(Math.abs(outlook.growth), system)} a day`;
}

/** What the parts of a ruler mean. */
export function RulerKey({ children }: { children?: ReactNode }) {
  return (
    <span className="faint" style={{ fontSize: "0.86rem" }}>
      <Swatch fill="var(--ink)" opacity={0.82} /> taken by files <Swatch fill="var(--wash)" /> allocated to
      volumes {children}
    </span>
  );
}

function Swatch({ fill, opacity = 1 }: { fill: string; opacity?: number }) {
  return (
    <svg width="14" height="10" aria-hidden="true" style={{ margin: "0 2px 0 8px" }}>
      <rect x="0.5" y="0.5" width="13" height="9" fill={fill} opacity={opacity} stroke="var(--board)" />
    </svg>
  );
}
