/** Disposal: drives on their way out. What is still on them, what wipes them, what is being wiped, and the proof. */
import { Text } from "@mantine/core";
import { type Schema, server } from "../../api/client";
import { usePicked } from "../../shared/address";
import { PickSpines } from "../../shared/PickSpines";
import { Empty, Heading, Trouble, Waiting } from "../../shared/parts";
import { SheetAct } from "../../shared/SheetForm";
import { formatWhen } from "../../shared/units";
import { Cards } from "./Cards";
import { Judge } from "./Judge";
import { Lot } from "./Lot";

type Outgoing = Schema["OutgoingOut"];

export function Disposal() {
  const found = server.useQuery("get", "/api/disposal");
  const { picked, turn, pick } = usePicked();
  if (found.isPending) return <Waiting height={400} />;
  if (found.isLoadingError) return <Trouble error={found.error} />;
  const { drives, lots } = found.data;
  const free = drives.filter((d) => d.service === "free");
  const legible = free.filter((d) => !d.wiped_at);
  const running = lots.filter((l) => l.drives.some((d) => d.state === "open"));
  const ended = lots.filter((l) => !running.includes(l));
  return (
    <>
      <Heading title="Disposal">
        <Text c="dimmed">
          {free.length === 0
            ? "No drive is free."
            : `${free.length} drives belong to nothing; ${legible.length} of them may hold data that can be read.`}
        </Text>
      </Heading>
      {running.map((lot) => (
        <Lot key={lot.job?.id} lot={lot} />
      ))}
      <section className="paper" aria-label="Drives to let go" style={{ marginBottom: "1rem" }}>
        <h2>Which drives go?</h2>
        {free.length === 0 ? (
          <Empty act="To the shelves" to="/shelves">
            Only a drive that belongs to nothing can be wiped. Take a pool apart, or take a drive out of one.
          </Empty>
        ) : (
          <>
            <p style={{ margin: "0.2rem 0 0.5rem" }}>
              {picked.length === 0
                ? "Pick one or many, of any kind. Lines across a spine: something is on it."
                : `${picked.length} picked.`}{" "}
              {legible.length > 0 && (
                <button type="button" className="figure" onClick={() => pick(legible.map((d) => d.id))}>
                  Pick all that may hold data
                </button>
              )}{" "}
              {picked.length > 0 && (
                <button type="button" className="figure" onClick={() => pick([])}>
                  Pick none
                </button>
              )}
            </p>
            <Spines drives={free} picked={picked} onPick={turn} />
          </>
        )}
      </section>
      {picked.length > 0 && (
        <Judge
          drives={picked}
          smallest={Math.min(...drives.filter((d) => picked.includes(d.id)).map((d) => d.size), 2 ** 50)}
        />
      )}
      {picked.length > 0 && <HandOut drives={drives.filter((d) => picked.includes(d.id))} />}
      {found.data.former.map((f) => (
        <Former key={f.id} former={f} />
      ))}
      {ended.map((lot) => (
        <Lot key={lot.job?.id} lot={lot} />
      ))}
      <Cards count={found.data.certificates} />
    </>
  );
}

/** Out of the house: to whom, and when. */
function HandOut({ drives }: { drives: Outgoing[] }) {
  const readable = drives.filter((d) => !d.wiped_at).length;
  return (
    <section className="paper" aria-label="Out of the house" style={{ marginBottom: "1rem" }}>
      <h2>Out of the house</h2>
      <Text my={6}>
        {readable === 0
          ? "All that are picked are wiped: they can be handed out."
          : `${readable} of those picked ${readable === 1 ? "is" : "are"} not wiped. Wipe first, unless they are destroyed.`}
      </Text>
      <SheetAct
        kind="hand-out"
        body={{ drives: drives.map((d) => String(d.id)) }}
        title={
          drives.length === 1
            ? `${drives[0].serial} leaves the house`
            : `${drives.length} drives leave the house`
        }
        fields={[
          {
            name: "how",
            label: "How",
            kind: "select",
            options: ["sold", "returned", "recycled", "given", "destroyed"],
            initial: "sold",
            required: true,
          },
          {
            name: "to",
            label: "To whom; or by whom they are destroyed, and how",
            placeholder: "the reading room",
            required: true,
          },
          {
            name: "on",
            label: "On which day",
            description: "Today if left empty",
            placeholder: "2026-11-26",
            optional: true,
          },
        ]}
      >
        Hand out…
      </SheetAct>
    </section>
  );
}

/** A pool that was taken apart and can come back. */
function Former({ former }: { former: Schema["FormerOut"] }) {
  return (
    <section className="paper" aria-label={`Former pool ${former.name}`} style={{ marginBottom: "1rem" }}>
      <h2>Pool {former.name} can come back</h2>
      <Text my={6}>
        {`${former.scheme}, ${former.drives} drives, ${former.volumes} volume${former.volumes === 1 ? "" : "s"}. Taken apart by ${former.taken_apart_by}, ${formatWhen(former.taken_apart_at)}. Until ${formatWhen(former.until)} it can be put together again, while nothing is written on its drives. So long they are not wiped.`}
      </Text>
      {former.spoilt.length > 0 && (
        <p className="rust" style={{ margin: "0.2rem 0" }}>
          {former.spoilt.join(", ")}: used or written on since.
        </p>
      )}
      <div style={{ display: "flex", gap: "0.6rem", flexWrap: "wrap" }}>
        <SheetAct kind="put-together" body={{ former: former.id }}>
          Put it together again
        </SheetAct>
        <SheetAct kind="let-go" body={{ former: former.id }}>
          No longer keep it
        </SheetAct>
      </div>
    </section>
  );
}

/** Free drives as spines: a blank one has been wiped, lines across its foot mean that something is on it. */
function Spines({
  drives,
  picked,
  onPick,
}: {
  drives: Outgoing[];
  picked: number[];
  onPick: (id: number) => void;
}) {
  const situation = (d: Outgoing) =>
    d.wiped_at ? "wiped" : d.condition === "good" ? (d.holds ? "old data" : "not wiped") : d.condition;
  const colour = (d: Outgoing) =>
    d.wiped_at ? "var(--pine)" : d.holds || d.condition !== "good" ? "var(--rust)" : "var(--faint)";
  return (
    <PickSpines
      drives={drives}
      picked={picked}
      onPick={onPick}
      named={(d) => `, ${situation(d)}`}
      said={(d) => (d.holds ? ` · holds ${d.holds}` : "")}
      word={(d) => ({ text: situation(d), colour: colour(d) })}
      blank={(d) => d.wiped_at !== null}
      marks={(d, tall) =>
        !d.wiped_at && <path d={`M5 ${tall - 15}h24M5 ${tall - 11}h20`} stroke="var(--ink)" opacity="0.6" />
      }
    />
  );
}
