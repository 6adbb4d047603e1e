/** The survival curve: for each number of drives failing at once, the probability that all data are there. */

/** As a small drawing for a row of the table: it falls from one to nothing. */
export function TinyCurve({ curve }: { curve: number[] }) {
  const last = Math.max(2, curve.indexOf(0));
  const shown = curve.slice(0, Math.min(curve.length, Math.max(4, last + 1)));
  const step = 46 / Math.max(1, shown.length - 1);
  const points = shown.map((v, k) => `${(2 + k * step).toFixed(1)} ${(15 - v * 12).toFixed(1)}`);
  return (
    <svg width="50" height="18" aria-hidden="true" style={{ verticalAlign: "-4px" }}>
      <path
        d={`M2 15L${points.join("L")}L${(2 + (shown.length - 1) * step).toFixed(1)} 15Z`}
        fill="var(--pine)"
        opacity="0.25"
      />
      <path d={`M${points.join("L")}`} fill="none" stroke="var(--pine)" strokeWidth="1.4" />
      <path d="M2 15.5H48" stroke="var(--line)" />
    </svg>
  );
}

/** As a drawing with its numbers. */
export function Curve({
  curve,
  interval,
  what = "drives",
}: {
  curve: number[];
  interval?: number[][] | null;
  what?: string;
}) {
  const dead = curve.indexOf(0);
  const end = dead < 0 ? curve.length - 1 : dead;
  const shown = curve.slice(0, Math.min(end + 1, 12));
  const width = Math.max(44, Math.min(58, 560 / shown.length));
  return (
    <div className="scroll-x" tabIndex={0}>
      <svg
        width={shown.length * width + 8}
        height="118"
        role="img"
        aria-label={`Survival curve: ${shown.map((v, k) => `${k} failed ${percent(v)}`).join(", ")}`}
      >
        {shown.map((value, k) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: failures are numbered
          <g key={k} transform={`translate(${4 + k * width} 0)`}>
            <title>
              {`${k} ${what} failed at once: ${percent(value)} of all choices leave all data` +
                (interval && interval[k][0] !== interval[k][1]
                  ? ` (sampled: ${percent(interval[k][0])} to ${percent(interval[k][1])})`
                  : "")}
            </title>
            <rect
              x="3"
              y={88 - 66 * value}
              width={width - 6}
              height={66 * value}
              fill="var(--pine)"
              opacity="0.75"
            />
            {value === 0 && <path d={`M3 87.5h${width - 6}`} stroke="var(--rust)" strokeWidth="2" />}
            <text
              x={width / 2}
              y={Math.max(12, 82 - 66 * value)}
              textAnchor="middle"
              fontSize="11"
              fill="var(--ink)"
            >
              {percent(value)}
            </text>
            <text x={width / 2} y="103" textAnchor="middle" fontSize="11.5" fill="var(--faint)">
              {k}
            </text>
          </g>
        ))}
        <path d={`M0 88.5H${shown.length * width + 8}`} stroke="var(--board)" strokeWidth="2" />
        <text x="4" y="116" fontSize="11" fill="var(--faint)">
          {what} failed at once
        </text>
      </svg>
    </div>
  );
}

function percent(value: number): string {
  if (value === 1) return "100 %";
  if (value === 0) return "0";
  if (value >= 0.9995) return "> 99.9 %";
  if (value < 0.001) return "< 0.1 %";
  return `${(value * 100).toFixed(value > 0.9 || value < 0.1 ? 1 : 0)} %`;
}
