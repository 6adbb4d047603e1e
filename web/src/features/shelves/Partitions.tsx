/** A drive without a pool: unallocated capacity, exact sectors, pending until a sheet is approved. */

import { Button, Group, SegmentedControl, Select, Text, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, ask, type Schema, server } from "../../api/client";
import { keyed } from "../../shared/keyed";
import { useMay } from "../../shared/me";
import { Act, errorOf, Heading, Trouble, Waiting } from "../../shared/parts";
import { SheetAct } from "../../shared/SheetForm";
import { formatCount, Size } from "../../shared/units";

type Wanted = Schema["WantedBody"];

export function Partitions() {
  const id = Number(useParams().id);
  const there = server.useQuery("get", "/api/drives/{drive_id}/partitions", {
    params: { path: { drive_id: id } },
  });
  if (there.isPending) return <Waiting height={400} />;
  if (there.isLoadingError) return <Trouble error={there.error} />;
  return <Editor key={id} there={there.data} />;
}

function Editor({ there }: { there: Schema["PartitionsOut"] }) {
  const client = useQueryClient();
  const may = useMay("manage-drives");
  const [scheme, setScheme] = useState(there.scheme);
  const [parts, setParts] = useState<Wanted[]>(there.wanted);
  const path = { params: { path: { drive_id: there.drive_id } } };
  const [settled] = useDebouncedValue(JSON.stringify({ scheme, parts }), 250);
  const edited =
    JSON.stringify({ scheme, parts }) !== JSON.stringify({ scheme: there.scheme, parts: there.wanted });
  const planned = server.useQuery(
    "put",
    "/api/drives/{drive_id}/partitions",
    {
      ...path,
      body: { ...(JSON.parse(settled) as { scheme: string; parts: Wanted[] }), dry: true },
    },
    { placeholderData: keepPreviousData, retry: false, enabled: may.may },
  );
  const keep = useMutation({
    mutationFn: () =>
      ask(api.PUT("/api/drives/{drive_id}/partitions", { ...path, body: { scheme, parts, dry: false } })),
    onSuccess: (data) =>
      client.setQueryData(
        server.queryOptions("get", "/api/drives/{drive_id}/partitions", path).queryKey,
        data,
      ),
  });
  const set = (i: number, change: Partial<Wanted>) =>
    setParts(parts.map((p, n) => (n === i ? { ...p, ...change } : p)));
  const error = planned.error ?? keep.error;
  const shown = planned.isError ? there : (planned.data ?? there);
  const places = parts.flatMap((_, i) =>
    ["size", "type", "label", "kind", "file_system"].map((f) => `parts.${i}.${f}`),
  );
  return (
    <div style={{ maxWidth: 980 }}>
      <Heading title={`Partitions of ${there.place}`}>
        <span className="faint">
          {there.serial} · <Size bytes={there.size} /> · {formatCount(there.sectors)} sectors of{" "}
          {there.sector} bytes
        </span>
      </Heading>
      {there.why_not && <p style={{ marginTop: 0 }}>It cannot be partitioned: {there.why_not}</p>}
      <section className="paper" aria-label="Plan">
        {there.why_not === null && (
          <Group mb="sm">
            <SegmentedControl
              aria-label="Partition table"
              value={scheme}
              onChange={setScheme}
              disabled={there.in_use}
              data={[
                { value: "gpt", label: "GPT (UEFI)" },
                { value: "mbr", label: "older table (MBR)" },
              ]}
            />
            <Text size="sm" c="dimmed">
              {scheme === "gpt"
                ? "128 entries, and a copy of the table at the end of the drive."
                : "Four primary entries, one of which may be extended; reaches 2 TiB."}
            </Text>
          </Group>
        )}
        {keyed(shown.findings).map(({ key, text }) => (
          <p key={key} className="rust" style={{ margin: "0.2rem 0" }}>
            {text}
          </p>
        ))}
        <Drawing shown={shown} />
        {there.why_not === null &&
          parts.map((part, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: partitions stand in their order
            <div className="fields" key={i} style={{ marginTop: "0.5rem" }}>
              <TextInput
                label={i === 0 ? "Size" : undefined}
                aria-label={`Size of partition ${i + 1}`}
                placeholder="all that is left"
                w={150}
                value={part.size ?? ""}
                error={errorOf(error, `parts.${i}.size`)}
                onChange={(e) => set(i, { size: e.currentTarget.value })}
              />
              <Select
                label={i === 0 ? "Type" : undefined}
                aria-label={`Type of partition ${i + 1}`}
                w={280}
                data={there.types.map((t) => ({ value: t.id, label: t.about }))}
                value={part.type ?? "data"}
                error={errorOf(error, `parts.${i}.type`)}
                onChange={(v) =>
                  set(i, {
                    type: v ?? "data",
                    file_system: there.types.find((t) => t.id === v)?.file_systems[0] ?? "",
                  })
                }
                allowDeselect={false}
              />
              <Select
                label={i === 0 ? "File system" : undefined}
                aria-label={`File system of partition ${i + 1}`}
                w={130}
                data={[
                  ...(there.types.find((t) => t.id === part.type)?.file_systems ?? []),
                  { value: "", label: "none" },
                ]}
                value={part.file_system ?? ""}
                error={errorOf(error, `parts.${i}.file_system`)}
                onChange={(v) => set(i, { file_system: v ?? "" })}
                allowDeselect={false}
              />
              {scheme === "gpt" ? (
                <TextInput
                  label={i === 0 ? "Label" : undefined}
                  aria-label={`Label of partition ${i + 1}`}
                  w={150}
                  value={part.label ?? ""}
                  error={errorOf(error, `parts.${i}.label`)}
                  onChange={(e) => set(i, { label: e.currentTarget.value })}
                />
              ) : (
                <Select
                  label={i === 0 ? "Entry" : undefined}
                  aria-label={`Entry of partition ${i + 1}`}
                  w={130}
                  data={["primary", "logical"]}
                  value={part.kind ?? "primary"}
                  error={errorOf(error, `parts.${i}.kind`)}
                  onChange={(v) => set(i, { kind: v ?? "primary" })}
                  allowDeselect={false}
                />
              )}
              <Button
                variant="subtle"
                mt={i === 0 ? 26 : 0}
                onClick={() => setParts(parts.filter((_, n) => n !== i))}
              >
                Leave it out
              </Button>
            </div>
          ))}
        {there.why_not === null && (
          <Group mt="sm">
            <Button
              size="xs"
              variant="default"
              onClick={() =>
                setParts([
                  ...parts,
                  { size: "", type: "data", label: "", kind: "primary", file_system: "ext4" },
                ])
              }
            >
              One more partition
            </Button>
          </Group>
        )}
        {error && !errorOf(error, ...places) && <Trouble error={error} />}
      </section>
      <section className="paper" aria-label="Exact sectors" style={{ marginTop: "1rem" }}>
        <h2>Exact sectors</h2>
        <div className="scroll-x" tabIndex={0}>
          <table className="plain">
            <thead>
              <tr>
                <th className="num">no.</th>
                <th>entry</th>
                <th>type</th>
                <th>label</th>
                <th className="num">first sector</th>
                <th className="num">last sector</th>
                <th className="num">size</th>
                <th>used as</th>
              </tr>
            </thead>
            <tbody>
              {shown.parts.map((p) => (
                <tr key={p.number}>
                  <td className="num">{p.number}</td>
                  <td>{p.kind}</td>
                  <td>{p.kind === "extended" ? "" : p.type}</td>
                  <td>{p.label}</td>
                  <td className="num">{formatCount(p.first)}</td>
                  <td className="num">{formatCount(p.last)}</td>
                  <td className="num">
                    <Size bytes={p.bytes} />
                  </td>
                  <td>
                    <Used part={p} onDrive={shown.on_drive} />
                  </td>
                </tr>
              ))}
              {shown.unallocated.map((s) => (
                <tr key={s.first} className="faint">
                  <td />
                  <td colSpan={3}>unallocated</td>
                  <td className="num">{formatCount(s.first)}</td>
                  <td className="num">{formatCount(s.first + s.sectors - 1)}</td>
                  <td className="num">
                    <Size bytes={s.bytes} />
                  </td>
                  <td />
                </tr>
              ))}
            </tbody>
          </table>
        </div>
        <p style={{ margin: "0.6rem 0" }} aria-live="polite">
          {edited ? "Edited here, not kept yet." : there.state}
        </p>
        <Group className="no-print">
          {there.why_not === null && (
            <>
              <Act
                size="xs"
                why={may.why ?? (edited ? null : "Nothing has been edited.")}
                variant="default"
                loading={keep.isPending}
                onClick={() => keep.mutate()}
              >
                Keep as pending
              </Act>
              <SheetAct
                kind="write-partitions"
                body={{ drive_id: there.drive_id }}
                why={edited ? "Keep the edits first." : there.pending ? null : "Nothing is pending."}
              >
                Write them…
              </SheetAct>
            </>
          )}
          {there.in_use && !there.pending && !edited && there.parts.length === 0 && (
            <SheetAct kind="write-partitions" body={{ drive_id: there.drive_id }}>
              Give the drive back…
            </SheetAct>
          )}
          {!edited && there.parts.length > 0 && (
            <Button
              size="xs"
              variant="subtle"
              component="a"
              href={`/api/drives/${there.drive_id}/partitions/image`}
            >
              Sparse image (tar)
            </Button>
          )}
        </Group>
      </section>
    </div>
  );
}

/** What a partition in use is to its users, or that it is not there yet. */
function Used({ part, onDrive }: { part: Schema["PartOut"]; onDrive: boolean }) {
  if (part.kind === "extended") return "holds the logical ones";
  if (!part.there) return onDrive ? "" : "pending";
  const volume = part.volume;
  if (!volume) return "";
  return (
    <>
      <Link to={`/pools/${volume.pool_id}`}>volume {volume.name}</Link>
      {volume.file_system !== "none" && `, ${volume.file_system}`}
      {volume.mounted.map((m) => `, ${m}`).join("")}
    </>
  );
}

/** The drive from its first sector to its last, to scale; small parts keep a visible width. */
function Drawing({ shown }: { shown: Schema["PartitionsOut"] }) {
  const pieces = [
    ...shown.parts.filter((p) => p.kind !== "extended").map((p) => ({ ...p, free: false })),
    ...shown.unallocated.map((s) => ({ ...s, number: 0, label: "", type: "", free: true })),
  ].sort((a, b) => a.first - b.first);
  return (
    <div
      role="img"
      aria-label={`${shown.parts.length} partitions, ${shown.unallocated.length} unallocated stretches`}
      style={{
        display: "flex",
        height: 34,
        border: "1px solid var(--ink)",
        borderRadius: 2,
        overflow: "hidden",
      }}
    >
      {pieces.map((p) => (
        <div
          key={p.first}
          title={p.free ? "unallocated" : `${p.number} ${p.label}`}
          style={{
            flex: `${Math.max(p.sectors / shown.sectors, 0.02)} 1 0`,
            minWidth: 0,
            borderRight: "1px solid var(--ink)",
            background: p.free
              ? "repeating-linear-gradient(135deg, transparent 0 5px, var(--line) 5px 6px)"
              : "var(--spine)",
            padding: "0 6px",
            fontSize: "0.85rem",
            lineHeight: "33px",
            whiteSpace: "nowrap",
            overflow: "hidden",
            textOverflow: "ellipsis",
          }}
        >
          {p.free ? "" : `${p.number}${p.label ? ` ${p.label}` : ""}`}
        </div>
      ))}
    </div>
  );
}
