/** Up to four layouts side by side, differences marked; a saved comparison can be set beside them. */
import { Select } from "@mantine/core";
import { type Schema, server } from "../../api/client";
import { useUnits } from "../../shared/units";
import { Curve } from "./Curve";
import { FigureValue, figureOf, formatFigure, Meaning, useFigures } from "./figures";
import { type Body, besides, type Layout, nameOf, type Question } from "./useQuestion";

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
  const figures = useFigures();
  const saved = server.useQuery("get", "/api/comparisons", { params: { query: { limit: 100 } } });
  const other = saved.data?.comparisons.find((c) => String(c.id) === beside);
  if (!layouts.length) return null;
  const columns: { layout: Layout; from?: Schema["SavedLine"] }[] = [
    ...layouts.map((layout) => ({ layout })),
    ...(other?.layouts ?? []).slice(0, 2).map((layout) => ({ layout, from: other })),
  ];
  const told = figures.filter((f) => columns.some((c) => figureOf(c.layout, f) !== null));
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
            {told.map((figure) => {
              const values = columns.map((c) => figureOf(c.layout, figure));
              const same = new Set(values).size === 1;
              const known = values.filter((v): v is number => v !== null);
              const best = figure.more_is_better ? Math.max(...known) : Math.min(...known);
              return (
                <tr key={figure.id} className={same && columns.length > 1 ? "faint" : undefined}>
                  <td>
                    <Meaning figure={figure}>{figure.label}</Meaning>
                  </td>
                  {columns.map(({ layout, from }, i) => {
                    const wins = !same && values[i] === best;
                    return (
                      <td
                        key={`${from?.id ?? ""}${layout.key}`}
                        className="num"
                        style={wins ? { fontWeight: 680, color: "var(--pine)" } : undefined}
                      >
                        {from ? (
                          formatFigure(figure, values[i], system, { currency: layout.cost.currency })
                        ) : (
                          <FigureValue figure={figure} layout={layout} body={body} among />
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
