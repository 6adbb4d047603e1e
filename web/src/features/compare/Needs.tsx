/** Picks, needs and assumptions: what the comparison is asked with. */
import { Button, Checkbox, NumberInput, SegmentedControl, Select, Text, TextInput } from "@mantine/core";
import { memo, type ReactNode, useState } from "react";
import { Link } from "react-router";
import { type Schema, server } from "../../api/client";
import { errorOf, Term } from "../../shared/parts";
import { formatCount, formatSize } from "../../shared/units";
import type { Field, Question } from "./useQuestion";

const MORE: Field[] = [
  "survive_shelves",
  "survive_hosts",
  "rebuild_limit",
  "widest",
  "budget",
  "bays_free",
  "spares_for",
];
const ASSUMED: Field[] = [
  "afr",
  "uber",
  "rate",
  "ops",
  "replace_hours",
  "user_share",
  "user_writes",
  "whole_stripes",
  "price",
  "tariff",
  "network",
  "backup_link",
];
/** Fields whose errors stand at themselves. */
export const FIELDS = new Set<string>(["drives", "need", "survive", "spares", ...MORE, ...ASSUMED]);

export const Needs = memo(function Needs({
  q,
  error,
  found,
}: {
  q: Question;
  error: unknown;
  found?: Schema["CompareOut"];
}) {
  // A spread pool and a division by use have needs of their own.
  const ownNeeds = q.get("view") === "spread" || q.get("view") === "split";
  const [openMore, setMore] = useState(MORE.some((f) => q.get(f)));
  const [openAssumed, setAssumed] = useState(ASSUMED.some((f) => q.get(f)));
  // What is wrong with a field is never folded away.
  const more = openMore || errorOf(error, ...MORE) !== undefined;
  const assumed = openAssumed || errorOf(error, ...ASSUMED) !== undefined;
  const number = (
    name: Field,
    label: ReactNode,
    extra: { suffix?: string; min?: number; max?: number; usual?: string } = {},
  ) => (
    <NumberInput
      label={label}
      w={150}
      min={extra.min ?? 0}
      max={extra.max}
      suffix={extra.suffix}
      allowNegative={false}
      value={q.get(name) === "" ? "" : Number(q.get(name))}
      placeholder={extra.usual ?? "any"}
      error={errorOf(error, name)}
      onChange={(v) => q.put({ [name]: v === "" ? null : String(v) })}
    />
  );
  const load = found?.layouts[0]?.load;
  const usualWrites = found?.load_assumed && load?.writes != null ? formatCount(load.writes) : "none";
  const usualWhole = found?.load_assumed && load ? String(Math.round(load.whole_stripes * 100)) : "0";
  return (
    <section className="paper no-print" aria-label="Picks and needs">
      <div className="fields">
        <div style={{ flex: "1 1 320px" }}>
          <SegmentedControl
            aria-label="What to compare"
            value={q.what}
            onChange={(v) => q.put({ what: v, layout: null, pins: null })}
            data={[
              {
                value: "shelves",
                label: `Drives on the shelves${q.drives.length ? ` (${q.drives.length})` : ""}`,
              },
              { value: "what-if", label: "What-if" },
            ]}
          />
          {q.what === "what-if" ? (
            <TextInput
              mt="xs"
              label="Drives you might have"
              description="Groups of drives; a kind and @shelf may follow: 4x8TB hdd@oak, 2x2TB ssd"
              placeholder="5x4TB,3x8TB"
              value={q.typed}
              error={errorOf(error, "drives")}
              onChange={(e) => q.put({ what: "what-if", "what-if": e.currentTarget.value })}
            />
          ) : (
            <Text mt="sm" size="sm">
              {q.drives.length
                ? "Sets are filled by size, smallest first, so that drives alike stand together. "
                : ""}
              <Link to="/shelves">{q.drives.length ? "Choose others" : "Choose drives on the shelves"}</Link>
            </Text>
          )}
        </div>
        {!ownNeeds && (
          <>
            <TextInput
              label="Capacity needed"
              placeholder="such as 20 TB"
              w={150}
              value={q.get("need")}
              error={errorOf(error, "need")}
              onChange={(e) => q.put({ need: e.currentTarget.value })}
            />
            <NumberInput
              label="Failures to survive"
              w={140}
              min={0}
              max={9}
              value={Number(q.get("survive") || 1)}
              error={errorOf(error, "survive")}
              onChange={(v) => q.put({ survive: v === "" || v === 1 ? null : String(v) })}
            />
            <Choices
              workload={q.get("workload") || "general"}
              spares={q.get("spares") || "open"}
              system={q.get("fs") || "ext4"}
              wrong={errorOf(error, "spares")}
              put={q.put}
            />
          </>
        )}
      </div>
      <div className="folds">
        {!ownNeeds && (
          <Button variant="subtle" size="compact-sm" aria-expanded={more} onClick={() => setMore((v) => !v)}>
            {more ? "Fewer needs" : "More needs: shelves, rebuild time, budget, bays…"}
          </Button>
        )}
        <Button
          variant="subtle"
          size="compact-sm"
          aria-expanded={assumed}
          onClick={() => setAssumed((v) => !v)}
        >
          {assumed ? "Hide what is assumed" : "What is assumed"}
        </Button>
        {!assumed && found && <Basis found={found} />}
      </div>
      {more && !ownNeeds && (
        <div className="fields" style={{ marginTop: "0.7rem" }}>
          {number("survive_shelves", "Shelves to survive", { max: 9 })}
          {number("survive_hosts", "Hosts to survive", { max: 9 })}
          {number("rebuild_limit", "Rebuild at most", { suffix: " h" })}
          {number("widest", "Widest set", { suffix: " drives" })}
          {number("budget", "Budget for all drives")}
          {number("bays_free", "Bays left free")}
          <Select
            label="Spares serve"
            w={150}
            value={q.get("spares_for") || "pool"}
            onChange={(v) => q.put({ spares_for: v === "pool" ? null : v })}
            data={[
              { value: "pool", label: "the whole pool" },
              { value: "shelf", label: "one shelf each" },
              { value: "all", label: "all pools" },
            ]}
            allowDeselect={false}
          />
          <Checkbox
            mt={30}
            label="Rotating and flash in one pool"
            checked={q.get("mix") === "yes"}
            onChange={(e) => q.put({ mix: e.currentTarget.checked ? "yes" : null })}
          />
          <Checkbox
            mt={30}
            label="Larger drives will come one by one"
            checked={q.get("larger") === "yes"}
            onChange={(e) => q.put({ larger: e.currentTarget.checked ? "yes" : null })}
          />
        </div>
      )}
      {assumed && (
        <>
          {found && <Sources found={found} />}
          <Text size="sm" c="dimmed" mt="xs">
            What is typed here holds for all drives alike, and goes before their own figures.
          </Text>
          <div className="fields" style={{ marginTop: "0.5rem" }}>
            {number("afr", <Term word="AFR">Yearly failure rate</Term>, { suffix: " %" })}
            <TextInput
              label={<Term word="UBER">Unreadable bits (UBER)</Term>}
              w={170}
              placeholder="such as 1e-15"
              value={q.get("uber")}
              error={
                q.get("uber") && !Number.isFinite(Number(q.get("uber")))
                  ? "Write for example 1e-15"
                  : errorOf(error, "uber")
              }
              onChange={(e) => q.put({ uber: e.currentTarget.value })}
            />
            <TextInput
              label="Sequential rate"
              w={150}
              placeholder="such as 200 MB/s"
              value={q.get("rate")}
              error={errorOf(error, "rate")}
              onChange={(e) => q.put({ rate: e.currentTarget.value })}
            />
            {number("ops", "Small operations", { suffix: " /s" })}
            {number("replace_hours", "New drive is in after", { suffix: " h" })}
            {number("user_share", "Users take", { suffix: " %", max: 99, usual: "as assumed" })}
            {number("user_writes", "or small writes", { suffix: " /s", usual: usualWrites })}
            {number("whole_stripes", "of them whole stripes", { suffix: " %", max: 100, usual: usualWhole })}
            {number("price", "Price of a drive")}
            {number("tariff", "Price of a kWh")}
            <TextInput
              label="Network link"
              w={150}
              placeholder="such as 1 Gbit/s"
              value={q.get("network")}
              error={errorOf(error, "network")}
              onChange={(e) => q.put({ network: e.currentTarget.value })}
            />
            <TextInput
              label="Backup: where"
              w={170}
              placeholder="such as the annex"
              value={q.get("backup_where")}
              onChange={(e) => q.put({ backup_where: e.currentTarget.value })}
            />
            {number("backup_age_hours", "Backup: how old", { suffix: " h" })}
            <TextInput
              label="Backup: link to restore"
              w={170}
              placeholder="such as 1 Gbit/s"
              value={q.get("backup_link")}
              error={errorOf(error, "backup_link")}
              onChange={(e) => q.put({ backup_link: e.currentTarget.value })}
            />
          </div>
        </>
      )}
    </section>
  );
});

/** What is chosen from lists; drawn anew only when one of them changes, not with every letter typed elsewhere. */
const Choices = memo(function Choices({
  workload,
  spares,
  system,
  wrong,
  put,
}: {
  workload: string;
  spares: string;
  system: string;
  wrong?: string;
  put: Question["put"];
}) {
  const systems = server.useQuery("get", "/api/schemes", {}, { staleTime: Number.POSITIVE_INFINITY });
  return (
    <>
      <Select
        label={<Term word="workload">What it is for</Term>}
        w={215}
        value={workload}
        onChange={(v) => put({ workload: v === "general" ? null : v })}
        data={(systems.data?.workloads ?? []).map((w) => ({ value: w.id, label: w.name }))}
        allowDeselect={false}
      />
      <Select
        label="Spares"
        w={125}
        value={spares}
        onChange={(v) => put({ spares: v === "open" ? null : v })}
        data={[
          { value: "open", label: "none to two" },
          ...["0", "1", "2", "3", "4"].map((n) => ({ value: n, label: n === "0" ? "none" : n })),
        ]}
        error={wrong}
        allowDeselect={false}
      />
      <Select
        label="File system"
        w={110}
        value={system}
        onChange={(v) => put({ fs: v })}
        data={(systems.data?.file_systems ?? []).map((f) => f.id)}
        allowDeselect={false}
      />
    </>
  );
});

const SAID: Record<string, (v: number) => string> = {
  afr: (v) => `${Number((v * 100).toPrecision(3))} % fail a year`,
  uber: (v) => `UBER ${v.toExponential(0)}`,
  rate: (v) => `${formatSize(v, "decimal", 0)}/s`,
  ops: (v) => `${formatCount(v)} small operations/s`,
};

/** The same, each with its source. */
function Sources({ found }: { found: Schema["CompareOut"] }) {
  return (
    <ul style={{ margin: "0.6rem 0 0", paddingLeft: "1.1rem" }}>
      {found.basis.map((b) => (
        <li key={b.name}>
          <strong>{SAID[b.name]?.(b.value)}</strong>: <span className="faint">{b.source}</span>
        </li>
      ))}
      <li>Meanwhile {found.load}</li>
    </ul>
  );
}

/** The figures that the odds, hours and speeds stand on, with where they come from on hover. */
function Basis({ found }: { found: Schema["CompareOut"] }) {
  return (
    <Text size="sm" c="dimmed" component="span">
      {found.basis.map((b, i) => (
        <span key={b.name} title={b.source}>
          {i ? " · " : ""}
          {SAID[b.name]?.(b.value)}
        </span>
      ))}
      {` · a new drive is in after ${found.replace_hours} h`}
      {` · ${found.load}`}
    </Text>
  );
}
