/** How a layout grows, as a picture: each way a staircase of usable capacity, step by step. */
import { TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData } from "@tanstack/react-query";
import { useState } from "react";
import { type Schema, server } from "../../api/client";
import { errorOf, Trouble, Waiting } from "../../shared/parts";
import { formatHours, formatSize, shortHours, useUnits } from "../../shared/units";
import { type Body, chosenBody, type Layout } from "./useQuestion";

export function Growth({ layout, body }: { layout: Layout; body: Body }) {
  const [larger, setLarger] = useState("");
  const [settled] = useDebouncedValue(larger, 250);
  const asked = { ...chosenBody(body, layout), larger: settled, steps: 3 };
  const growth = server.useQuery(
    "post",
    "/api/compare/growth",
    { body: asked },
    { placeholderData: keepPreviousData, retry: false },
  );
  const wrong = errorOf(growth.error, "larger");
  return (
    <section className="paper" aria-label="How it grows" style={{ gridColumn: "1 / -1" }}>
      <div style={{ display: "flex", gap: "1rem", alignItems: "flex-start", flexWrap: "wrap" }}>
        <h2>How it grows</h2>
        <TextInput
          className="no-print"
          ml="auto"
          size="xs"
          w={210}
          aria-label="Size of larger drives"
          placeholder="larger drives: such as 12 TB"
          value={larger}
          error={wrong}
          onChange={(e) => setLarger(e.currentTarget.value)}
        />
      </div>
      {growth.isLoadingError && !wrong ? (
        <Trouble error={growth.error} />
      ) : growth.data ? (
        <div className="ways-to-grow">
          {growth.data.paths.map((path) => (
            <Stairs key={path.way} path={path} now={growth.data.usable} />
          ))}
        </div>
      ) : (
        !wrong && <Waiting height={180} />
      )}
    </section>
  );
}

const TALL = 92;
const WIDE = 62;
/** Stairs drawn of one way; what comes after stands in the list. */
const MOST = 6;

type Step = Schema["GrowthStep"];

/** Steps that bring nothing yet are one stair together. */
interface Stair {
  usable: number;
  gain: number;
  hours: number;
  count: number;
  acts: string[];
}

function stairs(steps: Step[]): Stair[] {
  const found: Stair[] = [];
  for (const step of steps) {
    const last = found[found.length - 1];
    if (last && step.gain === 0 && last.gain === 0) {
      last.hours += step.hours;
      last.count += 1;
      last.acts.push(step.act);
    } else found.push({ ...step, count: 1, acts: [step.act] });
  }
  return found.length > MOST ? [...found.slice(0, MOST - 1), found[found.length - 1]] : found;
}

function Stairs({ path, now }: { path: Schema["GrowthPath"]; now: number }) {
  const { system } = useUnits();
  const shown = stairs(path.steps);
  const most = Math.max(now, ...path.steps.map((s) => s.usable));
  const high = (bytes: number) => (bytes / most) * TALL;
  return (
    <div style={{ minWidth: 0 }}>
      <h3>{path.name}</h3>
      {path.closed ? (
        <p style={{ margin: "0.2rem 0" }}>
          <span className="rust">Closed.</span> {path.closed}
        </p>
      ) : (
        <>
          {path.said_before && (
            <p className="rust" style={{ margin: "0.2rem 0" }}>
              {path.said_before}
            </p>
          )}
          <div className="scroll-x" tabIndex={0}>
            <svg
              width={(shown.length + 1) * WIDE + 4}
              height={TALL + 62}
              role="img"
              aria-label={`${path.name}: ${formatSize(now, system)} now, then ${path.steps.map((s) => formatSize(s.usable, system)).join(", ")}`}
            >
              <Bar x={0} top={high(now)} usable={now} under="now" />
              {shown.map((stair, i) => {
                const before = shown[i - 1]?.usable ?? now;
                const several = stair.count > 1 ? `${stair.count} × ` : "";
                return (
                  <Bar
                    key={stair.acts[0]}
                    x={(i + 1) * WIDE}
                    top={high(stair.usable)}
                    gained={stair.gain > 0 ? high(stair.usable) - high(before) : 0}
                    usable={stair.usable}
                    under={stair.gain ? `+${formatSize(stair.gain, system, 1)}` : `${several}nothing`}
                    alarm={stair.gain === 0}
                    takes={stair.hours ? shortHours(stair.hours) : "at once"}
                    title={`${stair.acts.join("; ")}: ${stair.gain ? `${formatSize(stair.gain, system)} more` : "nothing more yet"}${
                      stair.hours ? `, takes ${formatHours(stair.hours)}` : ", at once"
                    }`}
                  />
                );
              })}
              <path
                d={`M0 ${TALL + 18.5}H${(shown.length + 1) * WIDE}`}
                stroke="var(--board)"
                strokeWidth="2"
              />
            </svg>
          </div>
          <details>
            <summary className="faint">Step by step</summary>
            <ol className="plain-steps">
              {path.steps.map((step, i) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: steps are numbered
                <li key={i}>
                  {step.act}: {step.gain ? `${formatSize(step.gain, system)} more` : "nothing more yet"}
                  {step.hours > 0 && `, ${formatHours(step.hours)}`}, {step.when}.
                </li>
              ))}
            </ol>
          </details>
        </>
      )}
    </div>
  );
}

function Bar({
  x,
  top,
  gained = 0,
  usable,
  under,
  takes,
  alarm,
  title,
}: {
  x: number;
  top: number;
  gained?: number;
  usable: number;
  under: string;
  takes?: string;
  alarm?: boolean;
  title?: string;
}) {
  const { system } = useUnits();
  const y = TALL + 18 - top;
  return (
    <g transform={`translate(${x} 0)`}>
      <title>{title ?? `${under}: ${formatSize(usable, system)} usable`}</title>
      <rect
        x="2"
        y={y}
        width={WIDE - 4}
        height={top}
        fill="var(--spine)"
        stroke="var(--ink)"
        strokeWidth="0.7"
      />
      {gained > 0 && <rect x="2" y={y} width={WIDE - 4} height={gained} fill="var(--pine)" opacity="0.75" />}
      <text x={WIDE / 2} y={y - 4} fontSize="11" textAnchor="middle" fill="var(--ink)">
        {formatSize(usable, system, 1)}
      </text>
      <text
        x={WIDE / 2}
        y={TALL + 33}
        fontSize="11"
        textAnchor="middle"
        fill={alarm ? "var(--rust)" : "var(--faint)"}
      >
        {under}
      </text>
      <text x={WIDE / 2} y={TALL + 48} fontSize="10.5" textAnchor="middle" fill="var(--faint)">
        {takes}
      </text>
    </g>
  );
}
