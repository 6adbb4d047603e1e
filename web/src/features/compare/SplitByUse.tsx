/** Two or more uses with different needs on one stock of drives: a division into pools, against one for all. */

import { Button, Group, MultiSelect, NumberInput, Select, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { type Schema, server } from "../../api/client";
import { keyed } from "../../shared/keyed";
import { Act, errorOf, Trouble, Waiting } from "../../shared/parts";
import { formatChance, formatCount, formatHours, Size } from "../../shared/units";
import { PlanPools } from "./PlanPools";
import { backupIn, nameOf, type Question } from "./useQuestion";

interface Use {
  name: string;
  workload: string;
  need: string;
  survive: number;
  /** Drives picked for it; none: it gets some of those that are left. */
  drives: string[];
}

const FIRST = "large images~media~~1;small database~database~~1";

export function SplitByUse({ q }: { q: Question }) {
  const uses: Use[] = (q.get("uses") || FIRST).split(";").map((part) => {
    const [name, workload, need, survive, drives] = part.split("~");
    return {
      name,
      workload: workload || "general",
      need: need ?? "",
      survive: Number(survive || 1),
      drives: (drives ?? "").split("+").filter(Boolean),
    };
  });
  const put = (next: Use[]) =>
    q.put({
      uses: next
        .map((u) =>
          [u.name.replaceAll(/[~;]/g, " "), u.workload, u.need, u.survive, u.drives.join("+")].join("~"),
        )
        .join(";"),
    });
  const set = (i: number, change: Partial<Use>) =>
    put(uses.map((u, n) => (n === i ? { ...u, ...change } : u)));
  const [settled] = useDebouncedValue(JSON.stringify(uses), 300);
  const systems = server.useQuery("get", "/api/schemes", {}, { staleTime: Number.POSITIVE_INFINITY });
  const body = { ...q.body, uses: JSON.parse(settled) };
  const split = server.useQuery(
    "post",
    "/api/compare/split",
    { body: body },
    { placeholderData: keepPreviousData, retry: false },
  );
  const fields = uses.flatMap((_, i) => [`uses.${i}.need`, `uses.${i}.drives`]);
  // What the drives are called stays while a question has no answer.
  const labels = useRef<Record<string, string>>({});
  if (split.data) labels.current = split.data.labels;
  return (
    <>
      <section className="paper" aria-label="Uses">
        <p style={{ margin: "0 0 0.6rem" }}>
          Say what the drives are for; the needs above are left aside here. Each use gets a pool of its own,
          on the kind of drive that suits it. Pick drives for a use to decide that yourself.
        </p>
        {uses.map((use, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: uses stand in their order
          <div className="fields" key={i} style={{ marginTop: i ? "0.5rem" : 0 }}>
            <TextInput
              label={i === 0 ? "Use" : undefined}
              aria-label={`Name of use ${i + 1}`}
              w={190}
              maxLength={60}
              value={use.name}
              onChange={(e) => set(i, { name: e.currentTarget.value })}
            />
            <Select
              label={i === 0 ? "What it is" : undefined}
              aria-label={`Workload of use ${i + 1}`}
              w={230}
              value={use.workload}
              allowDeselect={false}
              data={(systems.data?.workloads ?? []).map((w) => ({ value: w.id, label: w.name }))}
              onChange={(v) => set(i, { workload: v ?? "general" })}
            />
            <TextInput
              label={i === 0 ? "Capacity needed" : undefined}
              aria-label={`Capacity of use ${i + 1}`}
              w={150}
              placeholder="such as 20 TB"
              value={use.need}
              error={errorOf(split.error, `uses.${i}.need`)}
              onChange={(e) => set(i, { need: e.currentTarget.value })}
            />
            <NumberInput
              label={i === 0 ? "Failures to survive" : undefined}
              aria-label={`Failures use ${i + 1} survives`}
              w={150}
              min={0}
              max={3}
              value={use.survive}
              onChange={(v) => set(i, { survive: Number(v) })}
            />
            <MultiSelect
              label={i === 0 ? "Drives" : undefined}
              aria-label={`Drives of use ${i + 1}`}
              w={260}
              searchable
              clearable
              hidePickedOptions
              placeholder={use.drives.length ? undefined : "chosen automatically"}
              value={use.drives}
              error={errorOf(split.error, `uses.${i}.drives`)}
              data={Object.entries(labels.current)
                .filter(([id]) => !uses.some((u, n) => n !== i && u.drives.includes(id)))
                .map(([value, label]) => ({ value, label }))}
              onChange={(drives) => set(i, { drives })}
            />
            {uses.length > 2 && (
              <Button
                variant="subtle"
                mt={i === 0 ? 26 : 0}
                onClick={() => put(uses.filter((_, n) => n !== i))}
              >
                Remove use
              </Button>
            )}
          </div>
        ))}
        {uses.length < 4 && (
          <Button
            mt="sm"
            size="xs"
            variant="default"
            onClick={() =>
              put([
                ...uses,
                { name: `use ${uses.length + 1}`, workload: "general", need: "", survive: 1, drives: [] },
              ])
            }
          >
            Add use
          </Button>
        )}
      </section>
      {split.isLoadingError && !errorOf(split.error, ...fields) ? (
        <div style={{ marginTop: "1rem" }}>
          <Trouble error={split.error} />
        </div>
      ) : split.isLoadingError ? null : split.data ? (
        <Division found={split.data} q={q} />
      ) : (
        <Waiting />
      )}
    </>
  );
}

function Division({ found, q }: { found: Schema["SplitOut"]; q: Question }) {
  const [planning, setPlanning] = useState(false);
  const whyNot = !found.meets
    ? "One of the uses has no layout."
    : q.what !== "shelves"
      ? "These drives are a what-if; choose real ones on the shelves to build."
      : null;
  const open = (share: Schema["ShareOut"]) => {
    if (!share.layout) return;
    const change: Record<string, string | null> = {
      view: null,
      workload: share.workload,
      layout: null,
      pins: null,
      survive: String(share.survive),
      need: share.need ? `${share.need}` : null,
      mix: "yes",
    };
    if (q.what === "shelves") q.put({ ...change, drives: share.drives.join(",") });
  };
  return (
    <section className="paper" style={{ marginTop: "1rem" }} aria-label="The division">
      <h2>
        {found.meets
          ? found.one_pool_better
            ? "Possible, but one pool for all is better"
            : "Suggested division"
          : "No division meets all needs; this comes closest"}
      </h2>
      <div className="scroll-x" tabIndex={0}>
        <table className="plain" style={{ marginTop: "0.4rem" }}>
          <thead>
            <tr>
              <th>use</th>
              <th>drives</th>
              <th>laid out as</th>
              <th className="num">usable</th>
              <th className="num">small writes</th>
              <th className="num">rebuild</th>
              <th className="num">damage a year</th>
              <th aria-label="Acts" />
            </tr>
          </thead>
          <tbody>
            {found.shares.map((s) => (
              <tr key={s.name}>
                <td style={{ fontWeight: 600 }}>{s.name}</td>
                <td title={s.drives.map((d) => found.labels[d] ?? d).join(", ")}>{s.drives.length}</td>
                {s.layout ? (
                  <>
                    <td>{nameOf(s.layout)}</td>
                    <Numbers layout={s.layout} />
                    <td className="num">
                      {q.what === "shelves" && (
                        <Button size="compact-sm" variant="subtle" onClick={() => open(s)}>
                          Compare these
                        </Button>
                      )}
                    </td>
                  </>
                ) : (
                  <td colSpan={6} className="rust">
                    {s.why}
                  </td>
                )}
              </tr>
            ))}
            <tr style={{ borderTop: "2px solid var(--board)" }}>
              <td style={{ fontWeight: 600 }}>one pool for all</td>
              {found.one_pool ? (
                <>
                  <td>{found.one_pool.sets.flat().length}</td>
                  <td>{nameOf(found.one_pool)}</td>
                  <Numbers layout={found.one_pool} />
                  <td />
                </>
              ) : (
                <td colSpan={7} className="rust">
                  {found.one_pool_short}
                </td>
              )}
            </tr>
          </tbody>
        </table>
      </div>
      <ul style={{ margin: "0.7rem 0 0", paddingLeft: "1.1rem" }}>
        {keyed(found.compared).map(({ key, text }) => (
          <li key={key}>{text}</li>
        ))}
      </ul>
      {planning && whyNot === null ? (
        <PlanPools
          key={found.shares.map((s) => `${s.name}:${s.drives.join(",")}`).join(";")}
          shares={found.shares}
          fileSystem={q.get("fs") || "ext4"}
          backup={backupIn(q.body)}
          onClose={() => setPlanning(false)}
        />
      ) : (
        <Group mt="sm" className="no-print">
          <Act why={whyNot} onClick={() => setPlanning(true)}>
            Build these as one plan…
          </Act>
          {whyNot && <span className="faint">{whyNot}</span>}
        </Group>
      )}
    </section>
  );
}

function Numbers({ layout }: { layout: Schema["LayoutOut"] }) {
  return (
    <>
      <td className="num">
        <Size bytes={layout.space.usable} />
      </td>
      <td className="num">{formatCount(layout.figures.small_writes ?? layout.speed.random_write_rmw)}/s</td>
      <td className="num">{layout.rebuild_hours === null ? "–" : formatHours(layout.rebuild_hours)}</td>
      <td className="num">{formatChance(layout.yearly_damage)}</td>
    </>
  );
}
