/** What was promised at building, beside what was measured since. */
import { Text } from "@mantine/core";
import type { Schema } from "../../api/client";
import { formatHours, Size } from "../../shared/units";

export function Proofs({ pool }: { pool: Schema["PoolOut"] }) {
  if (!pool.proofs.length) return null;
  return (
    <section className="paper" aria-label="Promise and proof">
      <h2>Promise and proof</h2>
      <table className="plain">
        <thead>
          <tr>
            <th />
            <th className="num">promised</th>
            <th className="num">measured</th>
          </tr>
        </thead>
        <tbody>
          {pool.proofs.map((p) => (
            <tr key={p.figure}>
              <td>{p.figure}</td>
              <td className="num">
                <Value unit={p.unit} value={p.promised} />
              </td>
              <td className="num" style={{ fontWeight: 600 }}>
                {p.measured == null ? (
                  <span className="faint">not yet</span>
                ) : (
                  <Value unit={p.unit} value={p.measured} />
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Text size="xs" c="dimmed" mt={4}>
        Measured: what the busiest drive really had to read and write, at its rate.
      </Text>
    </section>
  );
}

function Value({ unit, value }: { unit: string; value: number }) {
  if (unit === "hours") return formatHours(value);
  if (unit === "count") return String(value);
  return (
    <>
      <Size bytes={Math.round(value)} />
      {unit === "rate" && "/s"}
    </>
  );
}
