/** Where every raw byte goes: each line starts where the one before ended, down to what is usable. */
import type { Schema } from "../api/client";
import { Term } from "./parts";
import type { TERMS } from "./terms";
import { Size } from "./units";

type Space = Schema["Space"];

const LINES: [keyof Space, keyof typeof TERMS][] = [
  ["raw", "raw"],
  ["spares", "spares"],
  ["labels", "labels"],
  ["uneven", "uneven"],
  ["redundancy", "redundancy"],
  ["repair", "repair"],
  ["reserve", "reserve"],
  ["file_system", "file system"],
  ["usable", "usable"],
];

export function SpaceAccount({ space }: { space: Space }) {
  let left = space.raw;
  return (
    <table className="plain" aria-label="Space account">
      <tbody>
        {LINES.map(([key, term]) => {
          const size = space[key];
          const whole = key === "raw" || key === "usable";
          if (!whole && size === 0) return null;
          if (!whole) left -= size;
          const from = whole ? 0 : left / space.raw;
          return (
            <tr key={key}>
              <td style={{ width: "7.5rem", fontWeight: whole ? 600 : 400 }}>
                <Term word={term}>{term}</Term>
              </td>
              <td className="num" style={{ width: "7.5rem", fontWeight: whole ? 600 : 400 }}>
                {whole ? "" : "− "}
                <Size bytes={size} />
              </td>
              <td aria-hidden="true" style={{ minWidth: 90 }}>
                <Bar from={from} share={size / space.raw} kind={key} />
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

function Bar({ from, share, kind }: { from: number; share: number; kind: keyof Space }) {
  const fill = kind === "usable" ? "var(--pine)" : kind === "redundancy" ? "url(#hatch)" : "var(--spine)";
  return (
    <svg width="100%" height="14" style={{ display: "block" }}>
      <title>{kind}</title>
      <rect
        x={`${from * 100}%`}
        width={`${Math.max(0.4, share * 100)}%`}
        y="1"
        height="12"
        fill={fill}
        stroke="var(--ink)"
        strokeWidth="0.8"
      />
    </svg>
  );
}
