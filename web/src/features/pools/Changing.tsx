/** What changes a pool's drives over time: the front of a restripe, copies, the path of larger drives, each drive by itself. */
import { Text } from "@mantine/core";
import { useState } from "react";
import type { Schema } from "../../api/client";
import { useAddress } from "../../shared/address";
import { useMay, useMayDo } from "../../shared/me";
import { Act, State, Trouble } from "../../shared/parts";
import { SheetAct, useDrawUp } from "../../shared/SheetForm";
import { formatHours, formatSize, Size, useUnits } from "../../shared/units";
import { Replace } from "./Replace";

type PoolData = Schema["PoolOut"];

/** The two layouts and the front between them. */
export function Front({ pool }: { pool: PoolData }) {
  const way = pool.restripe;
  if (!way) return null;
  const [from, to] = way.turned ? [way.after, way.before] : [way.before, way.after];
  return (
    <section className="paper" aria-label="Restripe">
      <h2>{way.turned ? "The front goes back" : "Being restriped"}</h2>
      <table className="plain">
        <tbody>
          <tr>
            <td>From</td>
            <td className="num">{from}</td>
          </tr>
          <tr>
            <td>To</td>
            <td className="num">{to}</td>
          </tr>
          <tr>
            <td>The front has passed</td>
            <td className="num">{Math.floor(way.passed * 100)} %</td>
          </tr>
          {way.leaving.length > 0 && (
            <tr>
              <td>Leave when it has arrived</td>
              <td className="num">{way.leaving.join(", ")}</td>
            </tr>
          )}
        </tbody>
      </table>
      <Text size="sm" c="dimmed" my="xs">
        {way.upwards ? "Below" : "Above"} the ribbon the drives stand as the new layout says, on its other
        side as the old one does.{" "}
        {way.turned ? "" : "Until it has arrived it can be turned round; then all is as it was."}
      </Text>
      <div style={{ display: "flex", gap: "0.6rem", flexWrap: "wrap" }}>
        <SheetAct kind="turn-restripe" body={{ pool: pool.name }}>
          {way.turned ? "Let it go on again" : "Turn it round"}
        </SheetAct>
        {way.to_come > 0 && !way.extends_then && pool.volumes.some((v) => !v.thin) && (
          <SheetAct kind="extend-volumes" body={{ pool: pool.name, after_restripe: true }}>
            Extend its volumes when it has arrived
          </SheetAct>
        )}
      </div>
      {way.extends_then && (
        <Text size="sm" mt="xs">
          When it has arrived, its volumes take what is new by themselves.
        </Text>
      )}
    </section>
  );
}

/** Drives that are being made copies of members. */
export function Copies({ pool }: { pool: PoolData }) {
  return pool.copies.map((copy) => {
    const member = pool.places[copy.slot];
    return (
      <section key={copy.slot} className="paper" aria-label={`Copy of place ${copy.slot + 1}`}>
        <div style={{ display: "flex", flexWrap: "wrap", gap: "0.6rem 1rem", alignItems: "center" }}>
          <span style={{ flex: "1 1 260px" }}>
            {member?.place} · {member?.serial} is being copied onto {copy.place} · {copy.serial} (
            <Size bytes={copy.size} digits={1} />
            ), which then takes its place. Until then both have what is written.
          </span>
          <SheetAct kind="leave-copy" body={{ pool_id: pool.id, slot: copy.slot }}>
            Leave it off
          </SheetAct>
        </div>
      </section>
    );
  });
}

/** Larger drives that come one after the other. */
export function LargerPath({ pool }: { pool: PoolData }) {
  const { system } = useUnits();
  const draw = useDrawUp("replace-drive");
  const may = useMayDo("replace-drive");
  if (!pool.path.length) return null;
  const next = pool.path.find((s) => !s.came);
  const done = pool.path.filter((s) => s.came).length;
  const place = next && pool.places[next.slot];
  const why = may.why ?? place?.why_not_replaceable;
  return (
    <section className="paper" aria-label="Path of larger drives">
      <h2>Larger drives, one by one</h2>
      <p style={{ margin: "0.2rem 0" }}>
        {done} of {pool.path.length} {done === 1 ? "has" : "have"} come.
      </p>
      <ol className="plain-steps">
        {pool.path.map((step) => (
          <li key={step.drive_id} className={step.came ? "faint" : undefined}>
            {step.came
              ? `${step.drive} (${formatSize(step.size, system, 1)}) is in place ${step.slot + 1}.`
              : `${step.drive} (${formatSize(step.size, system, 1)}) for ${step.serial}: ${formatHours(step.hours)}, ${
                  step.gain ? `${formatSize(step.gain, system)} more` : "nothing more yet"
                }.`}
          </li>
        ))}
      </ol>
      <div style={{ display: "flex", gap: "0.6rem", flexWrap: "wrap", marginTop: "0.7rem" }}>
        {next && (
          <Act
            size="xs"
            why={why}
            loading={draw.isPending}
            onClick={() =>
              draw.mutate({
                pool_id: pool.id,
                slot: next.slot,
                drive_id: next.drive_id,
              } satisfies Schema["ReplaceDriveBody"])
            }
          >
            Draw up the next step
          </Act>
        )}
        <SheetAct kind="leave-path" body={{ pool: pool.name }}>
          Leave the path
        </SheetAct>
      </div>
      <Trouble error={draw.error} />
    </section>
  );
}

/** Each drive by itself; one that works can be replaced, too. */
export function Members({ pool }: { pool: PoolData }) {
  const may = useMay("replace-drives");
  // Today leads here with the drive that is to be replaced.
  const [asked] = useAddress();
  const first = pool.places.find(
    (p) => String(p.drive_id) === asked.get("replace") && !p.why_not_replaceable,
  );
  const [slot, setSlot] = useState<number | null>(may.may && first ? first.slot : null);
  const warns = pool.places.some((p) => p.condition === "failing");
  return (
    <details open={warns} className="members">
      <summary>
        {warns ? (
          <span className="rust">A drive is failing by its readings: replace it while it still works</span>
        ) : (
          "Drive by drive"
        )}
      </summary>
      <table className="plain">
        <tbody>
          {pool.places.map((p) => (
            <tr key={p.slot}>
              <td>
                {p.place ?? "no drive"} · {p.serial}
              </td>
              <td className="num">{p.size !== null && <Size bytes={p.size} digits={1} />}</td>
              <td>
                {p.condition === "failing" ? (
                  <State word="failing" />
                ) : p.state === "active" ? (
                  "works"
                ) : (
                  <State word={p.state} />
                )}
              </td>
              <td className="num">
                <Act
                  size="compact-xs"
                  variant="default"
                  why={may.why ?? p.why_not_replaceable}
                  onClick={() => setSlot(p.slot)}
                >
                  Replace…
                </Act>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {slot !== null && <Replace poolId={pool.id} slot={slot} onClose={() => setSlot(null)} />}
    </details>
  );
}
