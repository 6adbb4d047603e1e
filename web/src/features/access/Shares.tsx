/** Shares: folders over the network, who may, who is there, and how they are reached. */

import { Select, Text } from "@mantine/core";
import { keepPreviousData, useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Schema, server } from "../../api/client";
import { ACCESS, about } from "../../api/keys";
import { useMay } from "../../shared/me";
import { Copyable } from "../../shared/once";
import { Act, Trouble, Waiting } from "../../shared/parts";
import { type FieldSpec, SheetAct } from "../../shared/SheetForm";
import { formatWhen, Size, typedSize, type UnitSystem, useUnits } from "../../shared/units";
import { Find, More, useSome } from "./Some";

export function useParties() {
  return server.useQuery("get", "/api/access/parties");
}

function fields(parties: string[], system: UnitSystem, share?: Schema["SharedOut"]): FieldSpec[] {
  const options = parties.flatMap((p) => [`${p}:read`, `${p}:write`]);
  return [
    {
      name: "rights",
      label: "Who may",
      kind: "tags",
      description: "A person or group with :read or :write",
      options,
      initial: share?.rights.map((r) => `${r.party}:${r.may}`) ?? [],
    },
    {
      name: "quota",
      label: "Quota",
      description: "The most it may take; empty for no limit",
      placeholder: "500 GB",
      initial: share?.quota ? typedSize(share.quota, system) : "",
    },
    {
      name: "bin_days",
      label: "Days deleted files are kept in its bin",
      description: "0: not kept",
      kind: "number",
      initial: share?.bin_days ?? 14,
    },
    { name: "encrypted", label: "Encrypt the traffic", kind: "check", initial: share?.encrypted ?? true },
  ];
}

export function Shares() {
  const some = useSome();
  const { system } = useUnits();
  const shares = server.useQuery(
    "get",
    "/api/access/shares",
    { params: { query: { like: some.like, limit: some.limit } } },
    { placeholderData: keepPreviousData },
  );
  const parties = useParties();
  if (shares.isPending || parties.isPending) return <Waiting height={300} />;
  if (shares.isLoadingError) return <Trouble error={shares.error} />;
  const names = (parties.data?.parties ?? []).map((p) => p.name);
  return (
    <div className="stack">
      <div className="acts no-print" style={{ marginTop: 0 }}>
        <SheetAct
          kind="make-share"
          title="Share a folder"
          fields={[
            {
              name: "volume",
              label: "Volume",
              kind: "volume",
              required: true,
              description: "One that a host mounts",
            },
            { name: "name", label: "Name of the share", required: true, placeholder: "front-desk" },
            { name: "folder", label: "Folder on the volume", description: "Empty for all of it" },
            ...fields(names, system),
            { name: "purpose", label: "Purpose" },
          ]}
        >
          Share a folder…
        </SheetAct>
      </div>
      {(some.like || shares.data.more) && <Find some={some} what="a share" />}
      {shares.data.shares.length === 0 && !some.like && (
        <p className="paper" style={{ margin: 0 }}>
          Nothing is shared yet. Mount a volume on a host, add the people, then share a folder.
        </p>
      )}
      {shares.data.shares.map((s) => (
        <SharePaper key={s.id} share={s} names={names} />
      ))}
      <More some={some} more={shares.data.more} />
    </div>
  );
}

function SharePaper({ share, names }: { share: Schema["SharedOut"]; names: string[] }) {
  const { system } = useUnits();
  const people = (may: string) => share.people.filter((p) => p.may === may).map((p) => p.party);
  return (
    <section className="paper" aria-label={`Share ${share.name}`}>
      <h2>{share.name}</h2>
      <div className="facts">
        <span>
          <strong>
            {share.volume}
            {share.folder && `/${share.folder}`}
          </strong>
        </span>
        {share.purpose && <span>{share.purpose}</span>}
        <span>
          taken <Size bytes={share.taken} />
          {share.quota && (
            <>
              {" "}
              of <Size bytes={share.quota} />
            </>
          )}
        </span>
        <span>
          {share.bin_days
            ? `deleted files kept ${share.bin_days} days, ${share.bin_files} in the bin`
            : "no bin"}
        </span>
        <span>{share.encrypted ? "traffic encrypted" : "traffic open"}</span>
      </div>
      <div
        style={{
          display: "grid",
          gridTemplateColumns: "repeat(auto-fit, minmax(min(100%, 300px), 1fr))",
          gap: "0.6rem 1.6rem",
          marginTop: "0.6rem",
        }}
      >
        <div>
          <h3>Who may</h3>
          <Text size="sm">write: {people("write").join(", ") || "nobody"}</Text>
          <Text size="sm">read: {people("read").join(", ") || "nobody"}</Text>
          <h3 style={{ marginTop: "0.5rem" }}>Connected now</h3>
          {share.visits.length === 0 && <Text size="sm">nobody</Text>}
          {share.visits.map((v) => (
            <Text size="sm" key={v.person + v.client}>
              {v.person} at {v.client}, since {formatWhen(String(v.since))}
            </Text>
          ))}
        </div>
        <div>
          <h3>How it is reached</h3>
          {share.addresses.length === 0 && (
            <Text size="sm" className="rust">
              No host mounts its volume now; it cannot be reached.
            </Text>
          )}
          {share.addresses.map((a) => (
            <Copyable key={a.label} label={a.label} text={a.text} />
          ))}
        </div>
      </div>
      <div className="acts no-print">
        <SheetAct
          kind="change-share"
          body={{ share: share.name }}
          title={`Change ${share.name}`}
          fields={fields(names, system, share)}
        >
          Rights and limits…
        </SheetAct>
        <SheetAct kind="end-share" body={{ share: share.name }}>
          End the share
        </SheetAct>
      </div>
      <Visitor share={share} />
    </section>
  );
}

/** A simulated person at the share. */
function Visitor({ share }: { share: Schema["SharedOut"] }) {
  const client = useQueryClient();
  const may = useMay("work-stand-ins");
  const parties = useParties();
  const persons = (parties.data?.parties ?? []).filter((p) => p.members === null).map((p) => p.name);
  const [person, setPerson] = useState<string | null>(null);
  const [said, setSaid] = useState("");
  const who = person ?? share.people[0]?.party ?? persons[0] ?? "";
  const act = useMutation({
    mutationFn: async (what: "visit" | "leave" | "write") => {
      const path = { params: { path: { share_id: share.id } } };
      if (what === "write") {
        const got = await ask(
          api.POST("/api/shares/{share_id}/write", { ...path, body: { person: who, size: "5 GiB" } }),
        );
        return `${who} writes 5 GiB to ${got.jobs[0]?.volume ?? share.name}.`;
      }
      const route = what === "visit" ? "/api/shares/{share_id}/visit" : "/api/shares/{share_id}/leave";
      const got = await ask(api.POST(route, { ...path, body: { person: who, client: "desk" } }));
      return got.sentence;
    },
    onSuccess: (sentence) => {
      setSaid(sentence);
      client.invalidateQueries(about(...ACCESS));
    },
    onError: () => setSaid(""),
  });
  if (!persons.length) return null;
  return (
    <div className="no-print" style={{ marginTop: "0.6rem" }}>
      <div style={{ display: "flex", flexWrap: "wrap", gap: "0.5rem", alignItems: "center" }}>
        <Text size="sm" c="dimmed">
          Simulated person:
        </Text>
        <Select
          size="xs"
          w={140}
          aria-label="Who"
          data={persons}
          value={who}
          onChange={setPerson}
          allowDeselect={false}
        />
        <Act size="xs" variant="default" why={may.why} onClick={() => act.mutate("visit")}>
          Connect
        </Act>
        <Act size="xs" variant="default" why={may.why} onClick={() => act.mutate("write")}>
          Write 5 GiB
        </Act>
        <Act size="xs" variant="default" why={may.why} onClick={() => act.mutate("leave")}>
          Leave
        </Act>
        {said && (
          <Text size="sm" role="status">
            {said}
          </Text>
        )}
      </div>
      {act.isError && <Trouble error={act.error} />}
      {share.taken > 0 && <Files share={share} person={who} />}
    </div>
  );
}

function Files({ share, person }: { share: Schema["SharedOut"]; person: string }) {
  const [open, setOpen] = useState(false);
  const client = useQueryClient();
  const files = server.useQuery(
    "get",
    "/api/shares/{share_id}/files",
    {
      params: { path: { share_id: share.id }, query: { limit: 50 } },
    },
    { enabled: open },
  );
  const change = useMutation({
    mutationFn: ({ id, back }: { id: number; back: boolean }) =>
      ask(
        api.POST(back ? "/api/shares/{share_id}/restore-file" : "/api/shares/{share_id}/delete-file", {
          params: { path: { share_id: share.id } },
          body: { file_id: id, person },
        }),
      ),
    onSuccess: () => client.invalidateQueries(about(...ACCESS)),
  });
  return (
    <details style={{ marginTop: "0.4rem" }} onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary>Files, and its bin</summary>
      <Trouble error={change.error} />
      <table className="plain">
        <tbody>
          {(files.data?.files ?? []).map((f) => (
            <tr key={f.id}>
              <td style={{ overflowWrap: "anywhere", opacity: f.deleted_at ? 0.6 : 1 }}>{f.name}</td>
              <td className="num">
                <Size bytes={f.size} />
              </td>
              <td>{f.writer}</td>
              <td className="faint">
                {f.deleted_at ? `in the bin since ${formatWhen(f.deleted_at)}` : formatWhen(f.written_at)}
              </td>
              <td className="num">
                {f.deleted_at && (
                  <Act
                    size="compact-xs"
                    variant="subtle"
                    onClick={() => change.mutate({ id: f.id, back: true })}
                  >
                    take back
                  </Act>
                )}
                <Act
                  size="compact-xs"
                  variant="subtle"
                  onClick={() => change.mutate({ id: f.id, back: false })}
                >
                  {f.deleted_at ? "delete for good" : "delete"}
                </Act>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </details>
  );
}
