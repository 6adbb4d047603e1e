/** How a layout grows, as a picture: each way a staircase of usable capacity, step by step. */
import { TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Schema } from "../../api/client";
import { errorOf, Trouble, Waiting } from "../../shared/parts";
import { formatHours, formatSize, useUnits } from "../../shared/units";
import { type Body, chosenBody, type Layout } from "./useQuestion";

export function Growth({ layout, body }: { layout: Layout; body: Body }) {
  const [larger, setLarger] = useState("");
  const [settled] = useDebouncedValue(larger, 250);
  const asked = { ...chosenBody(body, layout), larger: settled, steps: 3 };
  const growth = useQuery({
    queryKey: ["compare", "growth", asked],
    queryFn: () => ask(api.POST("/api/compare/growth", { body: asked })),
    placeholderData: keepPreviousData,
    retry: false,
  });
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
      {growth.isError && !wrong ? (
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
const MOST = 8;

function Stairs({ path, now }: { path: Schema["GrowthPath"]; now: number }) {
  const { system } = useUnits();
  const shown =
    path.steps.length > MOST
      ? [...path.steps.slice(0, MOST - 1), path.steps[path.steps.length - 1]]
      : path.steps;
  const most = Math.max(now, ...path.steps.map((s) => s.usable));
  const width = 62;
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
              width={(shown.length + 1) * width + 4}
              height={TALL + 62}
              role="img"
              aria-label={`${path.name}: ${formatSize(now, system)} now, then ${path.steps.map((s) => formatSize(s.usable, system)).join(", ")}`}
            >
              {[{ usable: now, gain: 0, act: "now", hours: 0, when: "", guaranteed: 0 }, ...shown].map(
                (step, i) => {
                  const before = i === 0 ? step.usable : (shown[i - 2]?.usable ?? now);
                  const top = TALL + 18 - high(step.usable);
                  const skipped = path.steps.length > MOST && i === MOST;
                  return (
                    // biome-ignore lint/suspicious/noArrayIndexKey: steps are numbered
                    <g key={i} transform={`translate(${i * width} 0)`}>
                      <title>
                        {i === 0
                          ? `Now: ${formatSize(now, system)} usable`
                          : `${step.act}: ${step.gain ? `${formatSize(step.gain, system)} more` : "nothing more yet"}, ${
                              step.hours ? `takes ${formatHours(step.hours)}` : "at once"
                            }; capacity arrives ${step.when}; any ${step.guaranteed} may fail`}
                      </title>
                      <rect
                        x="2"
                        y={top}
                        width={width - 4}
                        height={high(step.usable)}
                        fill="var(--spine)"
                        stroke="var(--ink)"
                        strokeWidth="0.7"
                      />
                      {i > 0 && step.gain > 0 && !skipped && (
                        <rect
                          x="2"
                          y={top}
                          width={width - 4}
                          height={high(step.usable) - high(before)}
                          fill="var(--pine)"
                          opacity="0.75"
                        />
                      )}
                      <text x={width / 2} y={top - 4} fontSize="11" textAnchor="middle" fill="var(--ink)">
                        {formatSize(step.usable, system, 1)}
                      </text>
                      <text
                        x={width / 2}
                        y={TALL + 33}
                        fontSize="11"
                        textAnchor="middle"
                        fill={i && !step.gain ? "var(--rust)" : "var(--faint)"}
                      >
                        {i === 0 ? "now" : step.gain ? `+${formatSize(step.gain, system, 1)}` : "nothing yet"}
                      </text>
                      <text
                        x={width / 2}
                        y={TALL + 48}
                        fontSize="10.5"
                        textAnchor="middle"
                        fill="var(--faint)"
                      >
                        {i === 0
                          ? ""
                          : skipped
                            ? `after all ${path.steps.length}`
                            : step.hours
                              ? formatHours(step.hours).split(" ").slice(0, 2).join(" ")
                              : "at once"}
                      </text>
                    </g>
                  );
                },
              )}
              <path
                d={`M0 ${TALL + 18.5}H${(shown.length + 1) * width}`}
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
