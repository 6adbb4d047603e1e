/** What to buy: from the price list and the free bays, the least cost now and over the next growth steps. */

import { Button, Checkbox, FileButton, NumberInput, Text, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type Schema, sendFile, server } from "../../api/client";
import { EVERYTHING } from "../../api/keys";
import { useKinds, useMay } from "../../shared/me";
import { Act, Empty, errorOf, Trouble, Waiting } from "../../shared/parts";
import { formatChance, formatHours, formatMoney, Size, shortSize, useUnits } from "../../shared/units";
import type { Question } from "./useQuestion";

export function Buy({ q }: { q: Question }) {
  const prices = server.useQuery("get", "/api/prices");
  const bays = Number(q.get("bays") || 8);
  const then = [q.get("then1"), q.get("then2")].filter((t) => t.trim());
  const body = { ...q.body, bays, then, with_drives: q.get("with") === "yes" };
  const [settled] = useDebouncedValue(JSON.stringify(body), 250);
  const needed = Boolean(q.get("need").trim());
  const found = server.useQuery(
    "post",
    "/api/compare/buy",
    { body: JSON.parse(settled) },
    {
      placeholderData: keepPreviousData,
      enabled: needed && (prices.data?.models.length ?? 0) > 0,
      retry: false,
    },
  );
  const own = ["bays", "then"];
  return (
    <>
      <section className="paper" aria-label="What to buy">
        <p style={{ margin: "0 0 0.6rem" }}>
          The capacity needed, failures to survive and the other needs above hold for what is bought.
        </p>
        <div className="fields">
          <NumberInput
            label="Free bays"
            w={120}
            min={1}
            max={240}
            value={bays}
            error={errorOf(found.error, "bays")}
            onChange={(v) => q.put({ bays: v ? String(v) : null })}
          />
          <TextInput
            label="Needed at the next step"
            w={180}
            placeholder="such as 30 TB"
            value={q.get("then1")}
            error={errorOf(found.error, "then")}
            onChange={(e) => q.put({ then1: e.currentTarget.value })}
          />
          <TextInput
            label="And at the one after"
            w={180}
            placeholder="such as 45 TB"
            value={q.get("then2")}
            onChange={(e) => q.put({ then2: e.currentTarget.value })}
          />
          {q.ready && (
            <Checkbox
              mt={30}
              label="Together with the drives chosen above"
              checked={q.get("with") === "yes"}
              onChange={(e) => q.put({ with: e.currentTarget.checked ? "yes" : null })}
            />
          )}
        </div>
      </section>
      <div style={{ marginTop: "1rem" }}>
        {!needed ? (
          <Empty>Type the capacity needed above, and what to buy for it appears here.</Empty>
        ) : found.isLoadingError && !errorOf(found.error, ...own) ? (
          <Trouble error={found.error} />
        ) : found.isLoadingError ? null : found.data ? (
          <Purchases found={found.data} />
        ) : prices.data?.models.length === 0 ? null : (
          <Waiting />
        )}
      </div>
      {prices.data && <PriceList models={prices.data.models} />}
    </>
  );
}

function Purchases({ found }: { found: Schema["ShoppingOut"] }) {
  const [all, setAll] = useState(false);
  const shown = all ? found.purchases : found.purchases.slice(0, 12);
  if (!found.purchases.length)
    return (
      <section className="paper">
        <h2>Nothing on the price list meets these needs in the free bays</h2>
        <NotBought found={found} />
      </section>
    );
  return (
    <section className="paper" aria-label="Purchases">
      <div className="scroll-x" tabIndex={0}>
        <table className="plain">
          <thead>
            <tr>
              <th>buy</th>
              <th>laid out as</th>
              <th className="num">usable</th>
              <th className="num">rebuild</th>
              <th className="num">damage a year</th>
              <th className="num">bays left</th>
              <th className="num">cost now</th>
              <th className="num">in all</th>
              <th>and later</th>
            </tr>
          </thead>
          <tbody>
            {shown.map((p) => (
              <tr key={`${p.model}-${p.description}`} className={p.cheapest_in_all ? "picked" : undefined}>
                <td style={{ whiteSpace: "nowrap" }}>
                  <strong>
                    {p.count} × {p.model}
                  </strong>
                  {p.cheapest_in_all && <div className="pine">least over all steps</div>}
                  {p.cheapest_now && <div className="pine">least now</div>}
                </td>
                <td>{p.description}</td>
                <td className="num">
                  <Size bytes={p.layout.space.usable} />
                </td>
                <td className="num">
                  {p.layout.rebuild_hours === null ? "–" : formatHours(p.layout.rebuild_hours)}
                </td>
                <td className="num">{formatChance(p.layout.yearly_damage)}</td>
                <td className="num">{p.bays_left}</td>
                <td className="num">{formatMoney(p.cost, p.currency)}</td>
                <td className="num">
                  {p.cost_in_all === null ? (
                    <span className="rust">cannot grow so far</span>
                  ) : (
                    formatMoney(p.cost_in_all, p.currency)
                  )}
                </td>
                <td>
                  {p.later.map((s) => (
                    <div key={s.need}>
                      {s.how}: <Size bytes={s.usable} />
                    </div>
                  ))}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {found.purchases.length > shown.length && (
        <Button variant="subtle" size="compact-sm" mt="xs" onClick={() => setAll(true)}>
          Show {found.purchases.length - shown.length} more
        </Button>
      )}
      <NotBought found={found} />
    </section>
  );
}

function NotBought({ found }: { found: Schema["ShoppingOut"] }) {
  if (!found.ruled_out.length) return null;
  return (
    <details style={{ marginTop: "0.6rem" }} open={!found.purchases.length}>
      <summary>Ruled out: {found.ruled_out.length} models, and why</summary>
      <table className="plain">
        <tbody>
          {found.ruled_out.map((r) => (
            <tr key={r.model}>
              <td style={{ whiteSpace: "nowrap" }}>{r.model}</td>
              <td>{r.why}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </details>
  );
}

function PriceList({ models }: { models: Schema["ModelOut"][] }) {
  const { system } = useUnits();
  const may = useMay("prepare");
  const accepts = useKinds()
    ?.tables.flatMap((t) => t.accepts)
    .join(",");
  const client = useQueryClient();
  const bring = useMutation({
    mutationFn: (file: File) => sendFile<Schema["PricesReadOut"]>("/api/prices", file),
    onSuccess: () => client.invalidateQueries(EVERYTHING),
  });
  const errors = bring.data?.errors ?? [];
  return (
    <details className="paper" style={{ marginTop: "1rem" }} open={!models.length}>
      <summary style={{ cursor: "pointer" }}>Price list: {models.length} models</summary>
      <p style={{ margin: "0.5rem 0" }}>
        A CSV file with a model a row: model, size, kind and price; maker, rate, yearly failure rate, UBER,
        operations and watts may follow. Drives of these models without figures of their own take them from
        here.
      </p>
      <FileButton
        onChange={(file) => file && !may.why && bring.mutate(file)}
        accept={accepts}
        disabled={Boolean(may.why)}
      >
        {(props) => (
          <Act why={may.why} size="xs" variant="default" loading={bring.isPending} onClick={props.onClick}>
            Bring in a price list…
          </Act>
        )}
      </FileButton>
      {bring.isError && <Trouble error={bring.error} />}
      {errors.length > 0 && (
        <div role="alert" className="rust" style={{ marginTop: "0.5rem" }}>
          Nothing was stored; the list before stays.
          <ul>
            {errors.slice(0, 10).map((e) => (
              <li key={`${e.row}-${e.reason}`}>
                Row {e.row}
                {e.column ? `, ${e.column}` : ""}: {e.reason}
              </li>
            ))}
          </ul>
        </div>
      )}
      {bring.data?.stored ? <Text size="sm">{bring.data.stored} models stored.</Text> : null}
      {models.length > 0 && (
        <div className="scroll-x" tabIndex={0}>
          <table className="plain" style={{ marginTop: "0.5rem" }}>
            <thead>
              <tr>
                <th>model</th>
                <th className="num">size</th>
                <th>kind</th>
                <th className="num">price</th>
                <th className="num">per TB</th>
                <th className="num">rate</th>
                <th className="num">fails a year</th>
                <th className="num">UBER</th>
                <th className="num">operations</th>
                <th className="num">watts</th>
              </tr>
            </thead>
            <tbody>
              {models.map((m) => (
                <tr key={m.model}>
                  <td>
                    {m.maker} {m.model}
                  </td>
                  <td className="num">{shortSize(m.size, system)}</td>
                  <td>{m.kind}</td>
                  <td className="num">{m.price === null ? "–" : formatMoney(m.price, m.currency)}</td>
                  <td className="num">
                    {m.price === null ? "–" : formatMoney(m.price / (m.size / 1e12), null)}
                  </td>
                  <td className="num">
                    {m.rate === null ? (
                      "–"
                    ) : (
                      <>
                        <Size bytes={m.rate} digits={0} />
                        /s
                      </>
                    )}
                  </td>
                  <td className="num">
                    {m.afr === null ? "–" : `${Number((m.afr * 100).toPrecision(3))} %`}
                  </td>
                  <td className="num">{m.uber === null ? "–" : m.uber.toExponential(0)}</td>
                  <td className="num">{m.ops ?? "–"}</td>
                  <td className="num">{m.watts ?? "–"}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </details>
  );
}
