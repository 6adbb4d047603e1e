/** What a drive says of itself: what each reading means, how it has changed, what the rules find in it, and what to do. */
import { Group, NumberInput, Select, Text } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask, type Schema, server } from "../../api/client";
import { EVERYTHING } from "../../api/keys";
import { History } from "../../shared/History";
import { useMay } from "../../shared/me";
import { Act, Term, Trouble } from "../../shared/parts";
import { formatCount, formatSize, formatWhen, type UnitSystem, useUnits } from "../../shared/units";

type Told = Schema["DriveReadingsOut"];
type Line = Schema["LineOut"];

function useTold(drive: number) {
  return server.useQuery(
    "get",
    "/api/drives/{drive_id}/readings",
    { params: { path: { drive_id: drive } } },
    { refetchInterval: 10_000 },
  );
}

export function Readings({ drive }: { drive: Schema["DriveOut"] }) {
  const told = useTold(drive.id);
  if (told.isLoadingError) return <Trouble error={told.error} />;
  if (!told.data) return null;
  return (
    <section aria-label="Readings" style={{ margin: "0.9rem 0 0" }}>
      <h3 style={{ margin: "0 0 0.3rem", fontSize: "1rem" }}>
        <Term word="readings">Readings</Term>
      </h3>
      <Verdict told={told.data} />
      <div className="readings">
        {told.data.lines.map((line) => (
          <OneReading key={line.id} line={line} drive={drive} />
        ))}
      </div>
      {told.data.taken_at && !told.data.answers && (
        <Text size="sm" c="dimmed" mt={4}>
          It does not answer; this is what it said last, on {formatWhen(told.data.taken_at)}.
        </Text>
      )}
      <Surface told={told.data} drive={drive} />
      {told.data.recovery && <Recovery recovery={told.data.recovery} drive={drive.id} />}
      <Text size="sm" mt="xs">
        <Link to="/settings#failing">When a drive counts as failing</Link>
      </Text>
    </section>
  );
}

function Verdict({ told }: { told: Told }) {
  if (told.level === "unknown") return <p style={{ margin: 0 }}>None was taken yet: nothing is known.</p>;
  if (told.level === "well")
    return (
      <p style={{ margin: 0 }}>
        Nothing speaks against it
        {told.since && <span className="faint">, since {formatWhen(told.since)}</span>}.
      </p>
    );
  const failing = told.level === "failing";
  return (
    <div className={failing ? "rust" : undefined} role="status">
      <p style={{ margin: 0, fontWeight: 650 }}>
        {failing ? "It is failing" : "It gives warning"}
        {told.since && (
          <span className="faint" style={{ fontWeight: 400 }}>
            {" "}
            since {formatWhen(told.since)}
          </span>
        )}
      </p>
      <ul style={{ margin: "0.1rem 0 0.3rem", paddingLeft: "1.1rem" }}>
        {told.reasons.map((reason) => (
          <li key={reason.rule}>{reason.sentence}</li>
        ))}
      </ul>
    </div>
  );
}

function OneReading({ line, drive }: { line: Line; drive: Schema["DriveOut"] }) {
  const { system } = useUnits();
  const [open, setOpen] = useState(false);
  const grave = line.reasons.length > 0;
  const grown =
    line.value !== null && line.before !== null && line.unit !== "°C" && line.value !== line.before;
  return (
    <details onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary>
        <span className={grave ? "rust" : undefined}>{line.label}</span>
        <span className={grave ? "num rust" : "num"} style={{ fontWeight: grave ? 650 : undefined }}>
          {said(line, line.value, system)}
        </span>
      </summary>
      <div style={{ padding: "0.1rem 0 0.5rem" }}>
        <Text size="sm">{line.means}</Text>
        <Text size="sm" c="dimmed">
          {line.standard}
          {grown && `; ${said(line, line.before, system)} a week ago`}
        </Text>
        {open && line.series && (
          <History series={[line.series]} of={drive.id} named={`Drive ${drive.serial}`} begin="744" />
        )}
      </div>
    </details>
  );
}

function said(line: Line, value: number | null, system: UnitSystem): string {
  if (value === null) return "not known";
  if (line.unit === "") return value ? "failing" : "well";
  if (line.unit === "bytes") return formatSize(value, system);
  if (line.unit === "hours") return `${formatCount(value)} h`;
  if (line.unit === "count") return formatCount(value);
  return `${value} ${line.unit}`;
}

function Surface({ told, drive }: { told: Told; drive: Schema["DriveOut"] }) {
  const client = useQueryClient();
  const may = useMay("run-jobs");
  const { system } = useUnits();
  const scan = useMutation({
    mutationFn: () =>
      ask(api.POST("/api/drives/{drive_id}/scan", { params: { path: { drive_id: drive.id } } })),
    onSettled: () => client.invalidateQueries(EVERYTHING),
  });
  const found = told.scan;
  const left = found ? found.unreadable - found.mended : 0;
  const gib = 2 ** 30;
  return (
    <div style={{ marginTop: "0.6rem" }}>
      <p style={{ margin: "0 0 0.3rem" }}>
        <Term word="surface scan">Surface</Term>{" "}
        {found
          ? `read through ${formatWhen(found.at)}: ${formatSize(found.read * gib, system)}${
              found.unreadable === 0
                ? ", all of it can be read"
                : left === 0
                  ? `; ${formatSize(found.unreadable * gib, system)} came from the others and was written anew`
                  : `; ${formatSize(left * gib, system)} cannot be read`
            }.`
          : "never read through."}
      </p>
      {drive.retired_to === null && (
        <Act why={may.why} size="xs" variant="default" loading={scan.isPending} onClick={() => scan.mutate()}>
          {drive.pool_id !== null && !drive.situations.includes("spare")
            ? "Scan it, with its pool's drives"
            : "Scan its surface"}
        </Act>
      )}
      {scan.isSuccess && <Text size="sm">The scan is under way; this page may be closed.</Text>}
      {scan.isError && <Trouble error={scan.error} />}
    </div>
  );
}

function Recovery({ recovery, drive }: { recovery: Schema["RecoveryOut"]; drive: number }) {
  const client = useQueryClient();
  const may = useMay("manage-drives");
  const [seconds, setSeconds] = useState<number | string>(recovery.better ?? 7);
  const set = useMutation({
    mutationFn: (value: number | null) =>
      ask(
        api.PUT("/api/drives/{drive_id}/error-recovery", {
          params: { path: { drive_id: drive } },
          body: { seconds: value },
        }),
      ),
    onSettled: () => client.invalidateQueries(EVERYTHING),
  });
  const why = may.why ?? (recovery.settable ? null : "This drive does not take another limit.");
  return (
    <div style={{ marginTop: "0.6rem" }}>
      <p style={{ margin: "0 0 0.3rem" }}>
        <Term word="error-recovery limit">Error-recovery limit</Term>:{" "}
        {!recovery.known ? "not known" : recovery.limit === null ? "none" : `${recovery.limit} s`}.
        {recovery.sentence && <span className={recovery.well ? "faint" : "rust"}> {recovery.sentence}</span>}
      </p>
      <Group gap={6} align="flex-end">
        <NumberInput
          size="xs"
          w={92}
          aria-label="Seconds"
          suffix=" s"
          min={0.1}
          max={300}
          decimalScale={1}
          value={seconds}
          onChange={setSeconds}
        />
        <Act
          why={why}
          size="xs"
          variant={recovery.well ? "default" : "filled"}
          loading={set.isPending}
          onClick={() => set.mutate(Number(seconds))}
        >
          Set it
        </Act>
        {recovery.limit !== null && (
          <Act why={why} size="xs" variant="default" loading={set.isPending} onClick={() => set.mutate(null)}>
            No limit
          </Act>
        )}
      </Group>
      {set.isError && <Trouble error={set.error} />}
    </div>
  );
}

/** How a simulated drive ages from now on. */
export function Ageing({ drive }: { drive: number }) {
  const client = useQueryClient();
  const may = useMay("work-stand-ins");
  const told = useTold(drive);
  const [reading, setReading] = useState<string | null>(null);
  const [more, setMore] = useState<number | string>(0);
  const [daily, setDaily] = useState<number | string>(0);
  const age = useMutation({
    mutationFn: (of: string) =>
      ask(
        api.PUT("/api/stand-in/drives/{drive_id}/ageing", {
          params: { path: { drive_id: drive } },
          body: { reading: of, more: Number(more), a_day: Number(daily) },
        }),
      ),
    onSuccess: () => setMore(0),
    onSettled: () => client.invalidateQueries(EVERYTHING),
  });
  if (!told.data?.answers) return null;
  const label = (id: string) => told.data.lines.find((line) => line.id === id)?.label ?? id;
  const chosen = reading ?? told.data.can_age[0] ?? "";
  return (
    <details style={{ marginTop: "0.5rem" }}>
      <summary className="opens">Let it age</summary>
      <Select
        size="xs"
        label="Reading"
        data={told.data.can_age.map((id) => ({ value: id, label: label(id) }))}
        value={chosen}
        onChange={setReading}
        allowDeselect={false}
      />
      <Group gap={6} mt={4} grow>
        <NumberInput size="xs" label="more at once" value={more} onChange={setMore} />
        <NumberInput size="xs" label="more every day" value={daily} onChange={setDaily} />
      </Group>
      <Act
        why={may.why}
        mt={6}
        size="xs"
        variant="default"
        loading={age.isPending}
        onClick={() => age.mutate(chosen)}
      >
        From now on
      </Act>
      {told.data.ageing.map((one) => (
        <Text key={one.reading} size="sm" c="dimmed">
          {label(one.reading)}: {one.more > 0 ? "+" : ""}
          {one.more} so far, {one.a_day > 0 ? "+" : ""}
          {one.a_day} a day
        </Text>
      ))}
      {age.isError && <Trouble error={age.error} />}
    </details>
  );
}
