/** A spread pool over the chosen drives: each volume with its own protection, over drives, shelves or hosts. */
import { Button, SegmentedControl, Select, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { type Schema, server } from "../../api/client";
import { errorOf, Term, Trouble, Waiting } from "../../shared/parts";
import { SpaceAccount } from "../../shared/SpaceAccount";
import { formatChance, formatHours, Size } from "../../shared/units";
import { Curve } from "./Curve";
import { HowShown } from "./How";
import { backupIn, type Question } from "./useQuestion";

interface Row {
  size: string;
  protection: string;
}

const PROTECTIONS = [
  { value: "copies-2", label: "two copies" },
  { value: "copies-3", label: "three copies" },
  ...[3, 4, 5, 6, 8, 10].map((w) => ({ value: `parity-1:${w}`, label: `parity-1, ${w} wide` })),
  ...[4, 5, 6, 8, 10, 12].map((w) => ({ value: `parity-2:${w}`, label: `parity-2, ${w} wide` })),
];

export function SpreadPool({ q }: { q: Question }) {
  const chosen = q.get("domain");
  const rows: Row[] = (q.get("volumes") || "1 TB=copies-2").split(";").map((part) => {
    const [size, protection] = part.split("=");
    return { size, protection: protection || "copies-2" };
  });
  const put = (next: Row[]) => q.put({ volumes: next.map((r) => `${r.size}=${r.protection}`).join(";") });
  const set = (i: number, change: Partial<Row>) =>
    put(rows.map((r, n) => (n === i ? { ...r, ...change } : r)));
  const [settled] = useDebouncedValue(JSON.stringify({ domain: chosen, rows }), 300);
  const asked = JSON.parse(settled) as { domain: string; rows: Row[] };
  const body = { ...q.body, domain: asked.domain, volumes: asked.rows.map((r) => ({ ...r, name: "" })) };
  const spread = server.useQuery(
    "post",
    "/api/compare/spread",
    { body: body },
    { placeholderData: keepPreviousData, retry: false },
  );
  // Where nobody has chosen, the server proposes the widest that the drives stand in.
  const domain = chosen || spread.data?.domain || "drive";
  const placed = ["domain", ...rows.flatMap((_, i) => [`volumes.${i}.size`, `volumes.${i}.protection`])];
  return (
    <>
      <section className="paper" aria-label="Spread pool">
        <p style={{ margin: "0 0 0.7rem" }}>
          A <Term word="spread pool">spread pool</Term> is a stock of extents on all drives. Every{" "}
          <Term word="stripe">stripe</Term> of a volume takes its extents from different{" "}
          <Term word="failure domain">failure domains</Term>.
        </p>
        <div className="fields">
          <div>
            <div className="faint" style={{ fontSize: "0.92rem", marginBottom: 4 }}>
              Failure domain
            </div>
            <SegmentedControl
              aria-label="Failure domain"
              value={domain}
              onChange={(v) => q.put({ domain: v })}
              data={["drive", "shelf", "host", "site"]}
            />
            {errorOf(spread.error, "domain") && <div className="rust">{errorOf(spread.error, "domain")}</div>}
          </div>
        </div>
        {rows.map((row, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: volumes stand in their order
          <div className="fields" key={i} style={{ marginTop: "0.6rem" }}>
            <TextInput
              label={i === 0 ? "Volume" : undefined}
              aria-label={`Size of volume ${i + 1}`}
              w={160}
              placeholder="such as 10 TiB"
              value={row.size}
              error={errorOf(spread.error, `volumes.${i}.size`)}
              onChange={(e) => set(i, { size: e.currentTarget.value })}
            />
            <Select
              label={i === 0 ? "Protection" : undefined}
              aria-label={`Protection of volume ${i + 1}`}
              w={190}
              value={row.protection}
              data={PROTECTIONS}
              allowDeselect={false}
              error={errorOf(spread.error, `volumes.${i}.protection`)}
              onChange={(v) => set(i, { protection: v ?? "copies-2" })}
            />
            {rows.length > 1 && (
              <Button
                variant="subtle"
                mt={i === 0 ? 26 : 0}
                onClick={() => put(rows.filter((_, n) => n !== i))}
              >
                Leave it out
              </Button>
            )}
          </div>
        ))}
        <Button
          mt="sm"
          size="xs"
          variant="default"
          disabled={rows.length >= 20}
          onClick={() => put([...rows, { size: "500 GB", protection: "copies-3" }])}
        >
          One more volume
        </Button>
      </section>
      {spread.isLoadingError && !errorOf(spread.error, ...placed) ? (
        <div style={{ marginTop: "1rem" }}>
          <Trouble error={spread.error} />
        </div>
      ) : spread.isLoadingError ? null : spread.data ? (
        <>
          <Found found={spread.data} />
          {"drive_ids" in q.body && Array.isArray(q.body.drive_ids) && q.body.drive_ids.length > 0 && (
            <Button
              mt="md"
              component={Link}
              to={`/build?${new URLSearchParams({
                drives: q.body.drive_ids.join(","),
                scheme: "spread",
                domain,
                protection: rows[0]?.protection ?? "",
                size: rows[0]?.size ?? "",
                ...(rows.length > 1 && {
                  further: rows
                    .slice(1)
                    .map((r) => `${r.size}, ${r.protection}`)
                    .join("; "),
                }),
                ...backupIn(q.body),
              })}`}
            >
              Build this…
            </Button>
          )}
        </>
      ) : (
        <Waiting />
      )}
    </>
  );
}

function how(volume: Schema["SpreadVolumeOut"], figure: string): Schema["ExplanationOut"] | undefined {
  return volume.explanations.find((e) => e.figure === figure);
}

function Found({ found }: { found: Schema["SpreadOut"] }) {
  const [of, setOf] = useState<string | null>(null);
  const names = Object.keys(found.space);
  const shown = of && names.includes(of) ? of : names[0];
  const beyond = names.filter((name) => !found.repairs_a_domain[name]);
  const many =
    { drive: "drives", shelf: "shelves", host: "hosts", site: "sites" }[found.domain] ?? found.domain;
  return (
    <div className="chosen" style={{ marginTop: "1rem" }}>
      <section className="paper" style={{ gridColumn: "1 / -1" }} aria-label="Volumes of the spread pool">
        <div className="scroll-x" tabIndex={0}>
          <table className="plain">
            <thead>
              <tr>
                <th>volume</th>
                <th>protection</th>
                <th className="num">
                  <Term word="stripe">stripes</Term>
                </th>
                <th className="num">
                  <Term word="pool use">pool use</Term>
                </th>
                <th className="num">
                  <Term word="guaranteed">drives, sure</Term>
                </th>
                <th className="num">
                  <Term word="best case">at best</Term>
                </th>
                {found.domain !== "drive" && <th className="num">{many}, sure</th>}
                <th className="num">
                  <Term word="yearly loss">loss a year</Term>
                </th>
                <th className="num">
                  <Term word="yearly damage">damage a year</Term>
                </th>
              </tr>
            </thead>
            <tbody>
              {found.volumes.map((v, i) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: volumes stand in their order
                <tr key={i}>
                  <td>
                    <Size bytes={v.size} />
                  </td>
                  <td>
                    {v.protection}
                    {v.protection.startsWith("parity") && `, ${v.width} wide`}
                  </td>
                  <td className="num">
                    <HowShown explanation={how(v, "stripes")}>
                      {v.stripes.toLocaleString("en").replaceAll(",", "\u202f")}
                    </HowShown>
                  </td>
                  <td className="num">
                    <HowShown explanation={how(v, "pool_use")}>
                      <Size bytes={v.pool_use} />
                    </HowShown>
                  </td>
                  <td className="num">
                    <HowShown explanation={how(v, "guaranteed")}>{v.survives.guaranteed}</HowShown>
                  </td>
                  <td className="num">
                    <HowShown explanation={how(v, "best_case")}>
                      {v.survives.best_case_exact ? "" : "at least "}
                      {v.survives.best_case}
                    </HowShown>
                  </td>
                  {found.domain !== "drive" && <td className="num">{v.survives.domains_guaranteed}</td>}
                  <td className="num">
                    <HowShown explanation={how(v, "yearly_loss")}>{formatChance(v.yearly_loss)}</HowShown>
                  </td>
                  <td className="num">
                    <HowShown explanation={how(v, "yearly_damage")}>{formatChance(v.yearly_damage)}</HowShown>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
        <p style={{ margin: "0.6rem 0 0" }}>
          <Size bytes={found.used} /> of the drives are taken, <Size bytes={found.free} /> free. Repair of one
          drive, by all others together:{" "}
          <HowShown explanation={how(found.volumes[0], "rebuild_hours")}>
            {formatHours(found.rebuild_hours)}
          </HowShown>
          .
        </p>
        <p className={found.self_repair ? "verdict pine" : "verdict rust"}>
          {found.self_repair
            ? `Repairs itself: after the loss of any ${found.domain}, everything is placed again on the others.`
            : beyond.length
              ? `The loss of a whole ${found.domain} cannot be repaired until it is back: ${beyond.join(" and ")} ${beyond.length > 1 ? "use" : "uses"} all ${found.domains.length} ${many}.${found.domain === "drive" ? "" : ` A failed drive is repaired inside its ${found.domain}, where that has room.`}`
              : `Cannot repair itself after the loss of ${found.self_repair_fails_without.length} of the ${many}: not enough free capacity is left.`}
        </p>
        <p className="faint" style={{ margin: 0 }}>
          The odds of a spread pool are an approximation: one chain over all drives, its losses taken from the
          survival curve of the real placement.
        </p>
      </section>
      <section className="paper" aria-label="If all of it were protected alike">
        <h2>If all of it were {shown}</h2>
        {names.length > 1 && (
          <SegmentedControl
            size="xs"
            my="xs"
            value={shown}
            onChange={setOf}
            data={names}
            aria-label="Protection"
          />
        )}
        <SpaceAccount space={found.space[shown]} />
        <p className="faint" style={{ margin: "0.5rem 0 0" }}>
          {!found.repairs_a_domain[shown] &&
            `Nothing is kept for repair: no ${found.domain} is left to take what another one loses. `}
          At most {found.stripes_max[shown].toLocaleString("en").replaceAll(",", "\u202f")} stripes in the
          empty pool.
        </p>
      </section>
      <section className="paper" aria-label="What the pool survives">
        <h2>
          <Term word="survival curve">Survival curve</Term> of all volumes together
        </h2>
        <Curve curve={found.survives.curve} interval={found.survives.curve_interval} />
        {found.survives.curve_interval && (
          <p className="faint" style={{ margin: 0 }}>
            Beyond a million choices the points are sampled; hover for the interval.
          </p>
        )}
        <Partners found={found} />
      </section>
    </div>
  );
}

/** Who shares stripes with whom: the darker, the more. Even means a repair has many helpers. */
function Partners({ found }: { found: Schema["SpreadOut"] }) {
  const count = found.drives.length;
  if (count > 60) return null;
  const most = Math.max(1, ...found.partners.flat());
  const cell = Math.max(5, Math.min(16, 320 / count));
  return (
    <>
      <h3 style={{ marginTop: "0.8rem" }}>Who shares stripes with whom</h3>
      <svg
        width={count * cell + 2}
        height={count * cell + 2}
        role="img"
        aria-label="Drives that share stripes"
      >
        {found.partners.map((row, i) =>
          row.map((shared, j) => (
            <rect
              // biome-ignore lint/suspicious/noArrayIndexKey: drives stand in their order
              key={`${i}-${j}`}
              x={1 + j * cell}
              y={1 + i * cell}
              width={cell - 1}
              height={cell - 1}
              fill={i === j ? "var(--line)" : "var(--pine)"}
              opacity={i === j ? 1 : 0.06 + (0.9 * shared) / most}
            >
              <title>{`${found.labels[found.drives[i]]} and ${found.labels[found.drives[j]]}: ${shared} stripes`}</title>
            </rect>
          )),
        )}
      </svg>
    </>
  );
}
