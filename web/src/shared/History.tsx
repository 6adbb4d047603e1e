/** What was recorded over time: a line with the range it moved in, a table beside it, and a list to keep. */
import { Select, Text } from "@mantine/core";
import { useElementSize } from "@mantine/hooks";
import { useState } from "react";
import { type Schema, server } from "../api/client";
import { Trouble } from "./parts";
import { formatCount, formatResponse, formatSize, formatWhen, type UnitSystem, useUnits } from "./units";

const SPANS = [
  { value: "1", label: "the last hour" },
  { value: "24", label: "the last day" },
  { value: "168", label: "the last week" },
  { value: "744", label: "the last month" },
  { value: "8784", label: "the last year" },
  { value: "87840", label: "ten years" },
];

type Told = Schema["HistoryOut"];

export function History({
  series,
  of,
  named,
  begin = "24",
  title = "Over time",
}: {
  series: string[];
  of: number;
  named: string;
  /** The span that is shown first, in hours. */
  begin?: string;
  title?: string;
}) {
  const [hours, setHours] = useState(begin);
  const query = (one: string) => ({ params: { query: { series: one, of, hours: Number(hours) } } });
  const often = { refetchInterval: hours === "1" ? 10_000 : 60_000 };
  const first = server.useQuery("get", "/api/history", query(series[0]), often);
  const second = server.useQuery("get", "/api/history", query(series[1] ?? series[0]), {
    ...often,
    enabled: series.length > 1,
  });
  const told = [first.data, series.length > 1 ? second.data : undefined].filter((t): t is Told => Boolean(t));
  return (
    <div>
      <div style={{ display: "flex", gap: "0.5rem 1rem", alignItems: "center", flexWrap: "wrap" }}>
        <h3 style={{ margin: 0, fontSize: "1rem" }}>{title}</h3>
        <Select
          aria-label="Span of time"
          size="xs"
          data={SPANS}
          value={hours}
          onChange={(value) => value && setHours(value)}
          allowDeselect={false}
          w={140}
          className="no-print"
        />
        {series.map((one) => (
          <Text key={one} size="sm" className="no-print">
            <a href={`/api/history.csv?series=${one}&of=${of}&hours=${hours}`} download>
              List: {told.find((t) => t.series === one)?.label ?? one}
            </a>
          </Text>
        ))}
      </div>
      {first.isError && <Trouble error={first.error} />}
      {told.length > 0 && <Chart told={told} named={named} />}
    </div>
  );
}

const HIGH = 150;
const LEFT = 64;
const BELOW = 20;

function Chart({ told, named }: { told: Told[]; named: string }) {
  const { system } = useUnits();
  const { ref, width } = useElementSize();
  const [open, setOpen] = useState(false);
  const wide = Math.min(900, Math.max(240, width || 480));
  const points = told.flatMap((t) => t.points);
  if (points.length === 0)
    return (
      <Text size="sm" c="dimmed" mt={6}>
        Nothing was recorded in this time. A round is recorded every ten seconds while Pair Shelf runs.
      </Text>
    );
  const begin = Date.parse(told[0].begin);
  const end = Math.max(Date.parse(told[0].end), begin + 1);
  const top = Math.max(1, ...points.map((p) => p.high));
  // What would be full is drawn where that does not flatten everything else.
  const full = told[0].full_at && told[0].full_at < top * 6 ? told[0].full_at : null;
  const most = Math.max(top * 1.08, full ?? 0);
  const x = (at: number) => LEFT + ((at - begin) / (end - begin)) * (wide - LEFT - 4);
  const y = (value: number) => HIGH - BELOW - (value / most) * (HIGH - BELOW - 8);
  const last = told.map((t) => t.points[t.points.length - 1]);
  return (
    <div ref={ref}>
      <svg
        viewBox={`0 0 ${wide} ${HIGH}`}
        width={wide}
        role="img"
        aria-label={`${named}: ${told
          .map((t, i) => `${t.label} now ${value(last[i]?.mean ?? 0, t.unit, system)}`)
          .join(", ")}, from ${formatWhen(told[0].begin)} to ${formatWhen(told[0].end)}`}
        style={{ display: "block", maxWidth: "100%", marginTop: 6 }}
      >
        {[0, 0.5, 1].map((share) => (
          <g key={share}>
            <path d={`M${LEFT} ${y(share * most)}H${wide - 4}`} stroke="var(--line)" strokeWidth="0.8" />
            <text x={LEFT - 6} y={y(share * most) + 4} textAnchor="end" fontSize="11" fill="var(--faint)">
              {value(share * most, told[0].unit, system)}
            </text>
          </g>
        ))}
        {full !== null && (
          <path d={`M${LEFT} ${y(full)}H${wide - 4}`} stroke="var(--rust)" strokeDasharray="5 4">
            <title>full</title>
          </path>
        )}
        {told.map((t, number) => (
          <g key={t.series}>
            {stretches(t).map((part) => (
              <g key={part[0].at}>
                <path
                  d={`M${part.map((p) => `${x(middle(p, t))} ${y(p.high)}`).join("L")}L${[...part]
                    .reverse()
                    .map((p) => `${x(middle(p, t))} ${y(p.low)}`)
                    .join("L")}Z`}
                  fill={number === 0 ? "var(--ink)" : "var(--pine)"}
                  opacity="0.18"
                />
                <path
                  d={`M${part.map((p) => `${x(middle(p, t))} ${y(p.mean)}`).join("L")}h0.01`}
                  fill="none"
                  stroke={number === 0 ? "var(--ink)" : "var(--pine)"}
                  strokeWidth="1.6"
                  strokeLinecap="round"
                  strokeDasharray={number === 0 ? undefined : "6 3"}
                />
              </g>
            ))}
          </g>
        ))}
        {times(begin, end).map((at) => (
          <g key={at}>
            <path d={`M${x(at)} ${HIGH - BELOW}v4`} stroke="var(--faint)" />
            <text x={x(at)} y={HIGH - 4} textAnchor="middle" fontSize="11" fill="var(--faint)">
              {clock(at, end - begin)}
            </text>
          </g>
        ))}
      </svg>
      <div className="faint" style={{ fontSize: "0.86rem" }}>
        {told.map((t, number) => (
          <span key={t.series} style={{ marginRight: 14 }} title={t.about}>
            <svg width="22" height="8" aria-hidden="true">
              <path
                d="M1 4H21"
                stroke={number === 0 ? "var(--ink)" : "var(--pine)"}
                strokeWidth="1.8"
                strokeDasharray={number === 0 ? undefined : "6 3"}
              />
            </svg>{" "}
            {t.label}
          </span>
        ))}
        {full !== null && <span>- - full. </span>}
        one point a {told[0].grain === "round" ? "ten seconds" : told[0].grain}
      </div>
      <details style={{ marginTop: 4 }} onToggle={(event) => setOpen(event.currentTarget.open)}>
        <summary className="opens">As a table</summary>
        {open && <Table told={told} />}
      </details>
    </div>
  );
}

function Table({ told }: { told: Told[] }) {
  const { system } = useUnits();
  const means = told.map((t) => new Map(t.points.map((p) => [p.at, p.mean])));
  return (
    <div className="scroll-x" tabIndex={0} style={{ maxHeight: 260, overflowY: "auto" }}>
      <table className="plain">
        <thead>
          <tr>
            <th>from</th>
            {told.map((t) => (
              <th key={t.series} className="num">
                {t.label}, mean
              </th>
            ))}
            <th className="num">lowest</th>
            <th className="num">highest</th>
          </tr>
        </thead>
        <tbody>
          {[...told[0].points].reverse().map((p) => (
            <tr key={p.at}>
              <td style={{ whiteSpace: "nowrap" }}>{formatWhen(p.at)}</td>
              {told.map((t, number) => {
                const mean = means[number].get(p.at);
                return (
                  <td key={t.series} className="num">
                    {mean === undefined ? "–" : value(mean, t.unit, system)}
                  </td>
                );
              })}
              <td className="num">{value(p.low, told[0].unit, system)}</td>
              <td className="num">{value(p.high, told[0].unit, system)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

const middle = (p: Schema["PointOut"], t: Told) => Date.parse(p.at) + t.seconds * 500;

/** Points without a gap between them: where nothing was recorded, no line is drawn. */
function stretches(t: Told): Schema["PointOut"][][] {
  const found: Schema["PointOut"][][] = [];
  const gaps = t.points.slice(1).map((p, i) => Date.parse(p.at) - Date.parse(t.points[i].at));
  const usual = [...gaps].sort((a, b) => a - b)[Math.floor(gaps.length / 2)] ?? 0;
  const most = 3.5 * Math.max(usual, t.seconds * 1000);
  for (const point of t.points) {
    const part = found[found.length - 1];
    const before = part?.[part.length - 1];
    if (before && Date.parse(point.at) - Date.parse(before.at) <= most) part.push(point);
    else found.push([point]);
  }
  return found;
}

function value(number: number, unit: string, system: UnitSystem): string {
  if (unit === "bytes") return formatSize(number, system);
  if (unit === "bytes a second") return `${formatSize(number, system)}/s`;
  if (unit === "a second") return `${formatCount(number)}/s`;
  if (unit === "µs") return formatResponse(number / 1e6);
  if (unit === "hours") return `${formatCount(Math.round(number))} h`;
  return unit === "count" ? formatCount(number) : `${formatCount(number)} ${unit}`;
}

function times(begin: number, end: number): number[] {
  return [0.1, 0.35, 0.6, 0.85].map((share) => begin + share * (end - begin));
}

function clock(at: number, span: number): string {
  const said = formatWhen(new Date(at).toISOString());
  if (span <= 36 * 3_600_000) return said.slice(11);
  return span <= 40 * 86_400_000 ? said.slice(5, 10) : said.slice(0, 7);
}
