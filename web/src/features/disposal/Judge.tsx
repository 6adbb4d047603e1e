/** The drives that were picked: which method reaches what is wanted on each, why the others do not, how long it takes. */
import { NumberInput, SegmentedControl, Select, Text, TextInput } from "@mantine/core";
import { keepPreviousData } from "@tanstack/react-query";
import { useState } from "react";
import { type Schema, server } from "../../api/client";
import { useMayDo } from "../../shared/me";
import { Act, Trouble, Waiting } from "../../shared/parts";
import { useDrawUp } from "../../shared/SheetForm";
import { formatChance, formatHours, Size } from "../../shared/units";
import { Laboratory } from "./Laboratory";

type Judged = Schema["JudgedOut"];

const MEANS: Record<string, string> = {
  clear:
    "Nothing can be read through the drive's own interface afterwards. For drives that stay in the house.",
  purge: "Nothing can be recovered in a laboratory afterwards. For drives that leave the house.",
};

/** What is said of all drives together. */
const HOW = { category: "purge", sampled: false, wanted: 200, remnant: "1 MiB", goes: "" };

type Picked = { drives: number[]; smallest: number };

/** What was said of all stays said when one more is picked; what was said of one is said of these drives only. */
export function Judge({ drives, smallest }: Picked) {
  const [how, setHow] = useState(HOW);
  return (
    <These
      key={drives.join()}
      drives={drives}
      smallest={smallest}
      how={how}
      onHow={(change) => setHow((now) => ({ ...now, ...change }))}
    />
  );
}

function These({
  drives,
  smallest,
  how,
  onHow,
}: Picked & { how: typeof HOW; onHow: (change: Partial<typeof HOW>) => void }) {
  const { category, sampled, wanted, remnant, goes } = how;
  // A sample of more than the smallest drive has would be none.
  const most = Math.max(1, Math.floor(smallest / 2 ** 30) - 1);
  const sample = Math.min(wanted, most);
  const [methods, setMethods] = useState<Record<number, string>>({});
  const [cleared, setCleared] = useState<number[]>([]);
  const found = server.useQuery(
    "get",
    "/api/disposal/methods",
    {
      params: {
        query: {
          drives: drives.join(","),
          category,
          cleared: cleared.join(","),
          sample: sampled ? sample : undefined,
          remnant: sampled ? remnant : undefined,
        },
      },
    },
    { placeholderData: keepPreviousData },
  );
  const draw = useDrawUp("wipe");
  const may = useMayDo("wipe");
  if (found.isPending) return <Waiting height={200} />;
  const judged = found.data?.drives ?? [];
  const kept = judged.filter((j) => j.why_kept);
  const out = judged.filter((j) => !j.why_kept && suggested(j)?.by_hand);
  const able = judged.filter((j) => !j.why_kept && !suggested(j)?.by_hand);
  const worst = Math.max(0, ...able.map((j) => j.chance_missed ?? 0));
  const ask = () =>
    draw.mutate({
      drives: able.map((j) => j.id),
      category,
      categories: cleared.filter((id) => able.some((j) => j.id === id)).map((id) => `${id}=clear`),
      methods: able.filter((j) => methods[j.id]).map((j) => `${j.id}=${methods[j.id]}`),
      verify: sampled ? "sample" : "all",
      sample: sampled ? sample : null,
      remnant: sampled ? remnant : null,
      destination: goes.trim() || null,
    });
  return (
    <section className="paper" aria-label="How they are wiped" style={{ marginBottom: "1rem" }}>
      <h2>How thoroughly?</h2>
      <div
        style={{
          display: "flex",
          flexWrap: "wrap",
          gap: "0.6rem 1.2rem",
          alignItems: "center",
          margin: "0.4rem 0",
        }}
      >
        <SegmentedControl
          aria-label="Category"
          value={category}
          onChange={(v) => {
            onHow({ category: v });
            setMethods({});
            setCleared([]);
          }}
          data={[
            { value: "clear", label: "Clear" },
            { value: "purge", label: "Purge" },
          ]}
        />
        <Text style={{ flex: "1 1 300px" }}>
          {MEANS[category]} <span className="faint">(NIST SP 800-88)</span>
        </Text>
      </div>
      <Trouble error={found.error} />
      <div className="scroll-x" tabIndex={0}>
        <table className="plain stacked">
          <thead>
            <tr>
              <th>drive</th>
              <th>hides</th>
              <th>method</th>
              <th className="num">takes</th>
            </tr>
          </thead>
          <tbody>
            {able.map((j) => (
              <Row
                key={j.id}
                judged={j}
                cleared={cleared.includes(j.id)}
                method={methods[j.id]}
                onMethod={(m) => setMethods({ ...methods, [j.id]: m })}
              />
            ))}
            {[...out, ...kept].map((j) => (
              <tr key={j.id}>
                <td>
                  <Named judged={j} />
                </td>
                <td>{hides(j)}</td>
                <td colSpan={2}>
                  {j.why_kept ? (
                    <span className="rust">It is kept. {j.why_kept}</span>
                  ) : (
                    <>
                      <span className="rust">No method reaches this on it.</span>{" "}
                      <button type="button" className="figure" onClick={() => setCleared([...cleared, j.id])}>
                        Clear is enough for it
                      </button>
                      , or have it destroyed and say so when it is handed out.
                      <Others judged={j} />
                    </>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {able.length > 0 && (
        <>
          <h3 style={{ margin: "1rem 0 0.3rem" }}>Read back afterwards</h3>
          <div style={{ display: "flex", flexWrap: "wrap", gap: "0.6rem 1.2rem", alignItems: "center" }}>
            <SegmentedControl
              aria-label="What is read back"
              value={sampled ? "sample" : "all"}
              onChange={(v) => onHow({ sampled: v === "sample" })}
              data={[
                { value: "all", label: "everything" },
                { value: "sample", label: "a sample" },
              ]}
            />
            {sampled && (
              <NumberInput
                aria-label="Extents in the sample"
                value={sample}
                min={1}
                max={most}
                allowDecimal={false}
                onChange={(v) => onHow({ wanted: Math.max(1, Number(v) || 1) })}
                w={110}
                suffix=" GiB"
              />
            )}
            {sampled && (
              <Select
                aria-label="A remnant of"
                value={remnant}
                onChange={(v) => v && onHow({ remnant: v })}
                data={["1 MiB", "1 GiB", "10 GiB", "100 GiB"]}
                allowDeselect={false}
                w={120}
              />
            )}
            <Text style={{ flex: "1 1 260px" }}>
              {sampled
                ? `A remnant of ${remnant} would be missed with a probability of ${formatChance(worst)}.`
                : "Every byte that the drives show is compared."}
            </Text>
          </div>
          <TextInput
            mt="md"
            maw={460}
            label="Where they go"
            description="As far as it is known; it stands on the certificates"
            placeholder="sold to the reading room"
            value={goes}
            onChange={(e) => onHow({ goes: e.currentTarget.value })}
          />
          <div
            style={{
              display: "flex",
              flexWrap: "wrap",
              gap: "0.6rem 1rem",
              alignItems: "center",
              marginTop: "0.9rem",
            }}
          >
            <Act why={may.why} loading={draw.isPending} onClick={ask}>
              {able.length === 1 ? "Draw up the sheet" : `Draw up the sheet for ${able.length} drives`}
            </Act>
            <Text c="dimmed">
              {able.length > 1 ? "All of them together" : "It"} take{able.length > 1 ? "" : "s"}{" "}
              {formatHours(found.data?.hours ?? 0)}.
              {Object.entries(found.data?.at_once ?? {}).map(
                ([shelf, count]) => ` ${shelf} is written to ${count} at a time: its link bears no more.`,
              )}
            </Text>
          </div>
          <Trouble error={draw.error} />
        </>
      )}
      {drives.length === 1 && <Laboratory drive={drives[0]} />}
    </section>
  );
}

const suggested = (j: Judged) => j.offers.find((o) => o.suggested);

function Row({
  judged,
  cleared,
  method,
  onMethod,
}: {
  judged: Judged;
  /** Whether Clear is enough for it, whatever the others need. */
  cleared: boolean;
  method?: string;
  onMethod: (m: string) => void;
}) {
  const able = judged.offers.filter((o) => !o.why_not && !o.by_hand);
  const best = suggested(judged);
  const chosen = able.find((o) => o.id === method) ?? best;
  return (
    <tr>
      <td>
        <Named judged={judged} />
      </td>
      <td>{hides(judged)}</td>
      <td style={{ minWidth: 260 }}>
        {able.length > 1 ? (
          <Select
            aria-label={`Method for ${judged.serial}`}
            size="sm"
            value={chosen?.id ?? null}
            onChange={(v) => v && onMethod(v)}
            data={able.map((o) => ({ value: o.id, label: o.name }))}
            allowDeselect={false}
          />
        ) : (
          <strong>{chosen?.name}</strong>
        )}
        {cleared && <Text size="sm">Only cleared.</Text>}
        <Text size="sm" c="dimmed">
          {chosen?.suggested ?? chosen?.about}
        </Text>
        <Others judged={judged} />
      </td>
      <td className="num">{formatHours(judged.hours)}</td>
    </tr>
  );
}

function Named({ judged }: { judged: Judged }) {
  return (
    <>
      <strong>{judged.serial}</strong>
      <br />
      {judged.place}, <Size bytes={judged.size} />
      {judged.holds && (
        <Text size="sm" c="dimmed">
          holds {judged.holds}
        </Text>
      )}
    </>
  );
}

function hides(j: Judged): string {
  if (j.commands === null) return "does not answer";
  const found = [
    j.protected ? `${j.protected} GiB protected` : "",
    j.reassigned ? `${j.reassigned} GiB reassigned` : "",
    j.spare ? "a spare area" : "",
  ].filter(Boolean);
  return found.join(", ") || "nothing known";
}

/** The methods that do not reach it, each with its reason. */
function Others({ judged }: { judged: Judged }) {
  const others = judged.offers.filter((o) => o.why_not);
  if (others.length === 0) return null;
  return (
    <details>
      <summary className="faint">why not the others</summary>
      <ul className="plain-steps">
        {others.map((o) => (
          <li key={o.id}>
            {o.name}: {o.why_not}
          </li>
        ))}
      </ul>
    </details>
  );
}
