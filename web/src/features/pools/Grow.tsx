/** Ways to grow: what would make this pool larger with the drives there are, side by side; and what it could become. */
import { Text } from "@mantine/core";
import { keepPreviousData, useMutation } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { api, ask, type Schema, server } from "../../api/client";
import { usePicked } from "../../shared/address";
import { Cut } from "../../shared/Cut";
import { useMayDo } from "../../shared/me";
import { PickSpines } from "../../shared/PickSpines";
import { Act, Heading, Trouble, Waiting } from "../../shared/parts";
import { SheetAct, useDrawUp } from "../../shared/SheetForm";
import {
  formatHours,
  formatMoney,
  formatSize,
  Size,
  shortHours,
  shortSize,
  useUnits,
} from "../../shared/units";

type Found = Schema["WaysOut"];
type Way = Schema["WayOut"];
type Pick = Schema["PickOut"];

export function Grow() {
  const id = Number(useParams().id);
  const { picked, turn, pick } = usePicked();
  const found = server.useQuery(
    "get",
    "/api/pools/{pool_id}/ways",
    { params: { path: { pool_id: id }, query: { drives: picked.join(",") } } },
    { placeholderData: keepPreviousData },
  );
  if (found.isPending) return <Waiting height={400} />;
  if (found.isLoadingError)
    return (
      <Trouble error={found.error}>
        {picked.length > 0 && <Link to={`/pools/${id}/grow`}>Pick anew</Link>}
      </Trouble>
    );
  return <Shown id={id} found={found.data} picked={picked} onPick={turn} onNone={() => pick([])} />;
}

function Shown({
  id,
  found,
  picked,
  onPick,
  onNone,
}: {
  id: number;
  found: Found;
  picked: number[];
  onPick: (id: number) => void;
  onNone: () => void;
}) {
  const longest = Math.max(0, ...found.ways.map((w) => w.hours));
  return (
    <>
      <Heading title={`Make ${found.pool} larger`}>
        <Text c="dimmed">
          <Size bytes={found.capacity} /> now, <Size bytes={found.free} /> not allocated ·{" "}
          <Link to={`/pools/${id}`}>back to the pool</Link>
        </Text>
      </Heading>
      <section className="paper" aria-label="Drives for it" style={{ marginBottom: "1rem" }}>
        <h2>With which drives?</h2>
        <p style={{ margin: "0.2rem 0 0.5rem" }}>
          {found.drives.length === 0
            ? "No drive is free. Put some into bays on the shelves; they appear here by themselves."
            : picked.length === 0
              ? "None is picked: each way below takes those of the free drives that suit it best. Pick drives, and all ways are worked out with exactly those."
              : `${picked.length} picked: all ways are worked out with exactly these.`}{" "}
          {picked.length > 0 && (
            <button type="button" className="figure" onClick={onNone}>
              Pick none
            </button>
          )}
        </p>
        <Picks drives={found.drives} picked={picked} onPick={onPick} />
        {found.not_to_be_had.length > 0 && <NotToBeHad drives={found.not_to_be_had} />}
      </section>
      <section aria-label="Ways to grow" className="rungs">
        {found.ways.map((way) => (
          <Rung key={way.id} way={way} found={found} longest={longest} picked={picked} />
        ))}
      </section>
      <section className="paper" aria-label="Another scheme" style={{ marginTop: "1rem" }} id="scheme">
        <h2>Another scheme</h2>
        {found.why_no_conversion ? (
          <>
            <p style={{ margin: "0.2rem 0" }}>{found.why_no_conversion}</p>
            {found.way_round.length > 0 && (
              <ol className="plain-steps">
                {found.way_round.map((step, i) => (
                  <li key={step}>
                    {step}{" "}
                    {i === 0 && found.drives.length > 0 && (
                      <Link
                        to={`/compare?drives=${(picked.length ? picked : found.drives.map((d) => d.id)).join(",")}`}
                      >
                        Compare layouts for {picked.length || found.drives.length} free drives
                      </Link>
                    )}
                  </li>
                ))}
              </ol>
            )}
          </>
        ) : (
          <table className="plain">
            <thead>
              <tr>
                <th>becomes</th>
                <th className="num">capacity</th>
                <th className="num">survives then</th>
                <th className="num">takes</th>
                <th />
              </tr>
            </thead>
            <tbody>
              {found.conversions.map((way) => (
                <Conversion key={way.id} way={way} found={found} />
              ))}
            </tbody>
          </table>
        )}
      </section>
    </>
  );
}

/** The free drives as spines. */
function Picks({
  drives,
  picked,
  onPick,
}: {
  drives: Pick[];
  picked: number[];
  onPick: (id: number) => void;
}) {
  return (
    <PickSpines
      drives={drives}
      picked={picked}
      onPick={onPick}
      named={(d) => `${d.new ? ", new" : ""}${d.remark ? `. ${d.remark}` : ""}`}
      said={(d) => (d.remark ? ` · ${d.remark}` : "")}
      word={(d) => ({ text: d.remark ? wordOf(d) : "", colour: "var(--rust)" })}
      marks={(d) => d.new && <path d="M23 0h6v13l-3-3-3 3z" fill="var(--rust)" />}
    />
  );
}

/** Drives without a duty that cannot be picked, each with its reason. */
function NotToBeHad({ drives }: { drives: Found["not_to_be_had"] }) {
  const { system } = useUnits();
  return (
    <details style={{ marginTop: "0.5rem" }} open={drives.length <= 3}>
      <summary className="faint">{drives.length} more cannot be had</summary>
      <ul className="plain-steps">
        {drives.map((d) => (
          <li key={d.named}>
            {d.named}, {shortSize(d.size, system)}: {lower(d.why_not)}
          </li>
        ))}
      </ul>
    </details>
  );
}

const lower = (sentence: string) => sentence[0].toLowerCase() + sentence.slice(1);

/** The remark in a word, under the spine. */
function wordOf(d: Pick): string {
  if (d.remark?.startsWith("Its own readings")) return "warns";
  if (d.remark?.startsWith("It is smaller")) return "small";
  if (d.remark?.startsWith("It is of another kind")) return "other kind";
  return d.holds ? "holds data" : "";
}

function useWay(way: Way, found: Found) {
  const draw = useDrawUp(way.kind ?? "");
  const may = useMayDo(way.kind ?? "");
  const fresh = found.drives.filter((d) => d.new && way.drives.includes(d.id)).map((d) => d.id);
  const takeIn = useMutation({
    mutationFn: (ids: number[]) => ask(api.POST("/api/drives/take-in", { body: { ids } })),
  });
  const go = async () => {
    if (fresh.length) await takeIn.mutateAsync(fresh);
    draw.mutate(way.request);
  };
  const them = fresh.length > 1 ? "them" : "it";
  const said = fresh.length ? `Take ${them} in and draw up the sheet` : "Draw up the sheet";
  return { go, may, said, error: takeIn.error ?? draw.error, busy: draw.isPending || takeIn.isPending };
}

function Rung({
  way,
  found,
  longest,
  picked,
}: {
  way: Way;
  found: Found;
  longest: number;
  picked: number[];
}) {
  const { system } = useUnits();
  const act = useWay(way, found);
  const title = way.name[0].toUpperCase() + way.name.slice(1);
  const serials = way.drives.map((d) => found.drives.find((f) => f.id === d)?.serial).filter(Boolean);
  if (way.why_not)
    return (
      <article className="paper rung" aria-label={title}>
        <h3>{title}</h3>
        <p style={{ margin: "0.2rem 0" }}>
          <span className="rust">Not possible.</span> {way.why_not}
        </p>
        {way.way_round && <p style={{ margin: "0.2rem 0" }}>{way.way_round}</p>}
      </article>
    );
  if (!way.kind)
    return (
      <article className="paper rung" aria-label={title}>
        <h3>{title}</h3>
        {way.cautions.map((c) => (
          <p key={c} style={{ margin: "0.2rem 0" }}>
            {c}
          </p>
        ))}
        <Link to={`/compare?drives=${(picked.length ? picked : way.drives).join(",")}`}>
          Compare layouts for {way.drives.length} drive{way.drives.length === 1 ? "" : "s"}
        </Link>
      </article>
    );
  return (
    <article className={`paper rung${way.suggested ? " suggested" : ""}`} aria-label={title}>
      <h3>{title}</h3>
      {way.suggested && (
        <p className="pine" style={{ margin: "0.1rem 0 0.3rem", fontWeight: 600 }}>
          Suggested. <span style={{ fontWeight: 400 }}>{way.suggested}</span>
        </p>
      )}
      <Stair before={found.capacity} gain={way.gain} />
      <Arrival hours={way.hours} longest={longest} />
      <table className="plain way-facts">
        <tbody>
          <tr>
            <td>Capacity then</td>
            <td className="num">
              <Size bytes={way.capacity} />
            </td>
          </tr>
          <tr>
            <td>May fail until then, whichever</td>
            <td className="num">{way.meanwhile}</td>
          </tr>
          {way.price !== null && (
            <tr>
              <td>Price of its drives</td>
              <td className="num">{formatMoney(way.price, way.currency)}</td>
            </tr>
          )}
          {serials.length > 0 && (
            <tr>
              <td>Drives</td>
              <td className="num">
                {serials.length > 4
                  ? `${serials.slice(0, 3).join(", ")} and ${serials.length - 3} more`
                  : serials.join(", ")}
              </td>
            </tr>
          )}
        </tbody>
      </table>
      {way.steps.length > 0 && (
        <ol className="plain-steps">
          {way.steps.map((s) => (
            <li key={s.act}>
              {s.act}: {formatHours(s.hours)},{" "}
              {s.gain ? `${formatSize(s.gain, system)} more` : "nothing more yet"}
            </li>
          ))}
        </ol>
      )}
      {way.cautions.map((c) => (
        <p key={c} className="faint" style={{ margin: "0.3rem 0" }}>
          {c}
        </p>
      ))}
      <div style={{ marginTop: "auto", paddingTop: "0.7rem" }}>
        <Act
          why={act.may.why}
          loading={act.busy}
          onClick={act.go}
          variant={way.suggested ? "filled" : "default"}
        >
          {act.said}
        </Act>
      </div>
      <Trouble error={act.error} />
      {way.cut && (
        <details>
          <summary className="faint">The cut afterwards</summary>
          <Cut
            cut={way.cut}
            label={(slot) => (slot.startsWith("drive-") ? "new" : String(Number(slot) + 1))}
            failed={new Set()}
          />
        </details>
      )}
    </article>
  );
}

/** The capacity now, and the step it takes. */
function Stair({ before, gain }: { before: number; gain: number }) {
  const { system } = useUnits();
  const tall = 64;
  const high = (bytes: number) => Math.max(2, (bytes / (before + gain)) * tall);
  return (
    <svg
      width="100%"
      height={tall + 26}
      preserveAspectRatio="xMinYMin"
      viewBox={`0 0 260 ${tall + 26}`}
      role="img"
      aria-label={`${formatSize(before, system)} now, ${formatSize(gain, system)} more`}
    >
      {[1, 129].map((x) => (
        <rect
          key={x}
          x={x}
          y={18 + tall - high(before)}
          width="128"
          height={high(before)}
          fill="var(--spine)"
          stroke="var(--ink)"
          strokeWidth="0.7"
        />
      ))}
      <rect x="129" y="18" width="128" height={tall - high(before)} fill="var(--pine)" opacity="0.75" />
      <text x="65" y={13 + tall - high(before)} fontSize="12" textAnchor="middle" fill="var(--ink)">
        {formatSize(before, system)}
      </text>
      <text x="193" y="13" fontSize="12" textAnchor="middle" fill="var(--ink)">
        {gain ? `+${formatSize(gain, system)}` : "no more"}
      </text>
      <path d={`M0 ${tall + 18.5}H258`} stroke="var(--board)" strokeWidth="2" />
    </svg>
  );
}

/** When it is there, on one time line for all ways. */
function Arrival({ hours, longest }: { hours: number; longest: number }) {
  const at = longest ? 8 + (hours / longest) * 242 : 8;
  return (
    <svg
      width="100%"
      height="34"
      preserveAspectRatio="xMinYMin"
      viewBox="0 0 260 34"
      role="img"
      aria-label={hours ? `There after ${formatHours(hours)}` : "There at once"}
    >
      <path d="M8 10H252" stroke="var(--line)" strokeWidth="2" />
      <path d={`M8 10H${at}`} stroke="var(--pine)" strokeWidth="2" />
      <circle cx={at} cy="10" r="4.5" fill="var(--sheet)" stroke="var(--pine)" strokeWidth="2" />
      <text x={Math.min(200, Math.max(4, at - 24))} y="29" fontSize="11.5" fill="var(--faint)">
        {hours ? `there after ${shortHours(hours)}` : "there at once"}
      </text>
    </svg>
  );
}

function Conversion({ way, found }: { way: Way; found: Found }) {
  const act = useWay(way, found);
  if (way.why_not)
    return (
      <tr>
        <td>{way.name}</td>
        <td colSpan={way.first ? 3 : 4} className="faint">
          {way.why_not}
        </td>
        {way.first && (
          <td className="num">
            <SheetAct kind={way.first} body={{ pool: found.pool }}>
              Move together first
            </SheetAct>
          </td>
        )}
      </tr>
    );
  return (
    <tr>
      <td>
        {way.name}
        {way.cautions.map((c) => (
          <Text key={c} size="sm" c="dimmed">
            {c}
          </Text>
        ))}
        <Trouble error={act.error} />
      </td>
      <td className="num">
        <Size bytes={way.capacity} />
      </td>
      <td className="num">{way.afterwards}</td>
      <td className="num">{way.hours ? formatHours(way.hours) : "no restripe"}</td>
      <td className="num">
        <Act why={act.may.why} size="compact-sm" variant="default" loading={act.busy} onClick={act.go}>
          {act.said}
        </Act>
      </td>
    </tr>
  );
}
