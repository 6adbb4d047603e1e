/** Up to four layouts side by side, differences marked; a saved comparison can be set beside them. */
import { Select } from "@mantine/core";
import type { ReactNode } from "react";
import { type Schema, server } from "../../api/client";
import {
  formatChance,
  formatCount,
  formatHours,
  formatMoney,
  formatSize,
  useUnits,
} from "../../shared/units";
import { Curve } from "./Curve";
import { How } from "./How";
import { type Body, besides, type Layout, nameOf, type Question } from "./useQuestion";

interface Line {
  name: string;
  /** What explains it. */
  figure?: string;
  show: (l: Layout) => ReactNode;
  /** For marking: what is compared, and whether less is better; null is the worst. */
  value: (l: Layout) => number | null;
  low?: boolean;
}

export function Pinned({
  layouts,
  body,
  beside,
  put,
}: {
  layouts: Layout[];
  body: Body;
  /** The id of a saved comparison. */
  beside: string;
  put: Question["put"];
}) {
  const { system } = useUnits();
  const saved = server.useQuery("get", "/api/comparisons", { params: { query: { limit: 100 } } });
  const other = saved.data?.comparisons.find((c) => String(c.id) === beside);
  if (!layouts.length) return null;
  const columns: { layout: Layout; from?: Schema["SavedLine"] }[] = [
    ...layouts.map((layout) => ({ layout })),
    ...(other?.layouts ?? []).slice(0, 2).map((layout) => ({ layout, from: other })),
  ];
  const size = (bytes: number) => formatSize(bytes, system);
  const lines: Line[] = [
    {
      name: "Usable capacity",
      figure: "usable",
      show: (l) => size(l.space.usable),
      value: (l) => l.space.usable,
    },
    {
      name: "Redundancy",
      figure: "usable",
      show: (l) => size(l.space.redundancy),
      value: (l) => l.space.redundancy,
      low: true,
    },
    {
      name: "Uneven",
      figure: "usable",
      show: (l) => size(l.space.uneven),
      value: (l) => l.space.uneven,
      low: true,
    },
    {
      name: "Survives, whichever",
      figure: "guaranteed",
      show: (l) => l.survives.guaranteed,
      value: (l) => l.survives.guaranteed,
    },
    {
      name: "Survives, at best",
      figure: "best_case",
      show: (l) => l.survives.best_case,
      value: (l) => l.survives.best_case,
    },
    {
      name: "Rebuild of one drive",
      figure: "rebuild_hours",
      show: (l) => (l.rebuild_hours === null ? "–" : formatHours(l.rebuild_hours)),
      value: (l) => l.rebuild_hours,
      low: true,
    },
    {
      name: "Loss within a year",
      figure: "yearly_loss",
      show: (l) => formatChance(l.yearly_loss),
      value: (l) => l.yearly_loss,
      low: true,
    },
    {
      name: "Damage within a year",
      figure: "yearly_damage",
      show: (l) => formatChance(l.yearly_damage),
      value: (l) => l.yearly_damage,
      low: true,
    },
    {
      name: "Small reads",
      figure: "random_read",
      show: (l) => `${formatCount(l.speed.random_read)}/s`,
      value: (l) => l.speed.random_read,
    },
    {
      name: "Small writes",
      figure: "random_write_rmw",
      show: (l) => `${formatCount(l.speed.random_write_rmw)}/s`,
      value: (l) => l.speed.random_write_rmw,
    },
    {
      name: "Small writes, whole stripes",
      figure: "random_write_whole_stripe",
      show: (l) => `${formatCount(l.speed.random_write_whole_stripe)}/s`,
      value: (l) => l.speed.random_write_whole_stripe,
    },
    {
      name: "Reading large files",
      figure: "sequential_read",
      show: (l) => `${size(l.speed.sequential_read)}/s`,
      value: (l) => l.speed.sequential_read,
    },
    {
      name: "Writing large files",
      figure: "sequential_write",
      show: (l) => `${size(l.speed.sequential_write)}/s`,
      value: (l) => l.speed.sequential_write,
    },
    {
      name: "Cost per usable TB",
      figure: "cost",
      show: (l) => (l.cost.per_usable_tb === null ? "–" : formatMoney(l.cost.per_usable_tb, l.cost.currency)),
      value: (l) => l.cost.per_usable_tb,
      low: true,
    },
    { name: "Power", show: (l) => `${Math.round(l.cost.watts)} W`, value: (l) => l.cost.watts, low: true },
    {
      name: "Restore from backup",
      figure: "restore_hours",
      show: (l) => (l.restore_hours === null ? "no backup" : formatHours(l.restore_hours)),
      value: (l) => l.restore_hours,
      low: true,
    },
  ];
  return (
    <section className="paper" aria-label="Side by side" style={{ marginTop: "1rem" }}>
      <div style={{ display: "flex", gap: "1rem", alignItems: "center", flexWrap: "wrap" }}>
        <h2>Side by side</h2>
        <span className="faint">The best of each line is strong; lines that do not differ are faint.</span>
        {(saved.data?.comparisons.length ?? 0) > 0 && (
          <Select
            className="no-print"
            aria-label="Set a saved comparison beside it"
            placeholder="Set a saved one beside it"
            size="xs"
            w={240}
            ml="auto"
            clearable
            value={beside || null}
            onChange={(v) => put({ beside: v })}
            data={(saved.data?.comparisons ?? []).map((c) => ({ value: String(c.id), label: c.name }))}
          />
        )}
      </div>
      <div className="scroll-x" tabIndex={0}>
        <table className="plain" style={{ marginTop: "0.5rem" }}>
          <thead>
            <tr>
              <th aria-label="Figure" />
              {columns.map(({ layout, from }) => (
                <th
                  key={`${from?.id ?? ""}${layout.key}`}
                  className="num"
                  style={{ whiteSpace: "normal", minWidth: 150 }}
                >
                  <span style={{ color: "var(--ink)", fontWeight: 600 }}>{nameOf(layout)}</span>
                  {besides(layout) && <div>{besides(layout)}</div>}
                  {from && <div className="pine">as saved in {from.name}</div>}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {lines.map((line) => {
              const values = columns.map((c) => line.value(c.layout));
              const same = new Set(values).size === 1;
              const known = values.filter((v): v is number => v !== null);
              const best = line.low ? Math.min(...known) : Math.max(...known);
              return (
                <tr key={line.name} className={same && columns.length > 1 ? "faint" : undefined}>
                  <td>{line.name}</td>
                  {columns.map((c, i) => {
                    const wins = !same && values[i] === best;
                    return (
                      <td
                        key={`${c.from?.id ?? ""}${c.layout.key}`}
                        className="num"
                        style={wins ? { fontWeight: 680, color: "var(--pine)" } : undefined}
                      >
                        {line.figure && !c.from && values[i] !== null ? (
                          <How figure={line.figure} label={line.name} body={body} layout={c.layout}>
                            {line.show(c.layout)}
                          </How>
                        ) : (
                          line.show(c.layout)
                        )}
                      </td>
                    );
                  })}
                </tr>
              );
            })}
            <tr>
              <td>Survival curve</td>
              {columns.map((c) => (
                <td key={`${c.from?.id ?? ""}${c.layout.key}`} style={{ maxWidth: 300 }}>
                  <Curve curve={c.layout.survives.curve.slice(0, 7)} />
                </td>
              ))}
            </tr>
          </tbody>
        </table>
      </div>
    </section>
  );
}
