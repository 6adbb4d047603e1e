/** What can be done with a volume; each begins a change sheet. */
import { keepPreviousData } from "@tanstack/react-query";
import { type Schema, server } from "../../api/client";
import { SheetAct } from "../../shared/SheetForm";
import { formatSize, useUnits } from "../../shared/units";

/** Hosts with what they mount: some of them, or all names for a choice. */
export function useHosts(like = "", limit = 200) {
  return server.useQuery(
    "get",
    "/api/access/hosts",
    { params: { query: { like, limit } } },
    { placeholderData: keepPreviousData },
  );
}

export function useFileSystems() {
  return server.useQuery("get", "/api/schemes", {}, { staleTime: Number.POSITIVE_INFINITY });
}

export function VolumeActs({ volume }: { volume: Schema["VolumeOut"] }) {
  const hosts = useHosts();
  const systems = useFileSystems();
  const ref = `${volume.pool}/${volume.name}`;
  const names = (hosts.data?.hosts ?? []).map((h) => h.name);
  const { system } = useUnits();
  const pools = server.useQuery("get", "/api/pools", { params: { query: { limit: 200 } } });
  const others = (pools.data?.pools ?? []).filter((p) => p.name !== volume.pool && !p.divided);
  const spread = (pool: unknown) => others.find((p) => p.name === pool)?.scheme === "spread";
  const size = formatSize(volume.size, system);
  const bare = volume.file_system === "none";
  return (
    <details className="no-print" style={{ marginTop: "0.3rem" }}>
      <summary>Change it, mount it, end it</summary>
      <div className="acts">
        <SheetAct
          kind="resize-volume"
          body={{ volume: ref }}
          title={`Extend or shrink ${volume.name}`}
          fields={[
            {
              name: "size",
              label: "New size",
              description: `It has ${size}. “all” adds all that is left. This file system shrinks: ${volume.facts.shrinks}.`,
              placeholder: size,
              required: true,
            },
          ]}
        >
          Extend or shrink…
        </SheetAct>
        <SheetAct
          kind="move-volume"
          body={{ volume: ref }}
          title={`Move ${volume.name} to another pool`}
          about="It stays in use: what is written meanwhile is copied again, all of it is compared, and mounts, shares, targets and rules follow in one step."
          why={others.length ? null : "There is no other pool it could go to."}
          fields={[
            {
              name: "pool",
              label: "To pool",
              kind: "select",
              options: others.map((p) => ({
                value: p.name,
                label: `${p.name} · ${formatSize(p.free, system)} left`,
              })),
              required: true,
              initial: others[0]?.name ?? "",
            },
            {
              name: "protection",
              label: "Its protection there",
              description: "As copies-2, copies-3, parity-1:5 or parity-2:8",
              placeholder: "copies-2",
              when: (v) => spread(v.pool),
            },
            {
              name: "file_system",
              label: "File system",
              description: "Another one is copied file by file",
              kind: "select",
              options: [
                { value: "", label: `as it is (${bare ? "none" : volume.file_system})` },
                ...(bare ? [] : (systems.data?.file_systems ?? []).filter((f) => f.id !== volume.file_system))
                  .filter((f) => f.id !== "none")
                  .map((f) => ({ value: f.id, label: f.id })),
              ],
            },
            {
              name: "provision",
              label: "Provided",
              kind: "select",
              options: [
                { value: "", label: `as it is (${volume.thin ? "thin" : "thick"})` },
                ...(bare
                  ? []
                  : [{ value: volume.thin ? "thick" : "thin", label: volume.thin ? "thick" : "thin" }]),
              ],
            },
            {
              name: "keep",
              label: "Keep the source, with its files",
              kind: "check",
              initial: volume.partition !== null,
            },
          ]}
        >
          Move to another pool…
        </SheetAct>
        {!bare && (
          <SheetAct
            kind="mount-volume"
            body={{ volume: ref }}
            title={`Mount ${volume.name}`}
            fields={[
              {
                name: "host",
                label: "Host",
                kind: "select",
                options: names,
                required: true,
                initial: volume.mounts[0]?.host ?? "",
              },
              {
                name: "mount_point",
                label: "Mount point",
                placeholder: `/srv/${volume.name}`,
                description:
                  "A folder that is there and empty, or one to be made; on hosts with letters also a letter (S:)",
                required: true,
              },
              { name: "read_only", label: "Reading only", kind: "check" },
              {
                name: "access_times",
                label: "Note the time of every reading",
                description: "Costs a write for each reading; seldom needed",
                kind: "check",
              },
              {
                name: "required",
                label: "The host does not start without it",
                description:
                  "Left off, the host starts when it is absent, and the empty folder is closed so that nothing is written underneath",
                kind: "check",
              },
              {
                name: "move_aside",
                label: "Move what lies in the folder aside",
                kind: "check",
              },
            ]}
          >
            Mount…
          </SheetAct>
        )}
        {volume.mounts.map((m) => (
          <SheetAct
            key={m.host + m.at}
            kind="unmount-volume"
            body={{ host: m.host, mount_point: m.at }}
          >{`Unmount from ${m.at}`}</SheetAct>
        ))}
        {!bare && (
          <SheetAct kind="check-files" body={{ volume: ref }}>
            Check the file system
          </SheetAct>
        )}
        <SheetAct
          kind="set-keep-rule"
          body={{ volume: ref }}
          title={`Keep rule for ${volume.name}`}
          fields={[
            {
              name: "above",
              label: "Delete the oldest recordings above, per cent",
              kind: "number",
              initial: volume.keep_above === null ? 90 : Math.round(volume.keep_above * 100),
            },
            {
              name: "application",
              label: "Whose recordings",
              description: "Empty for everything on this volume; never on another",
              kind: "select",
              options: volume.applications,
            },
          ]}
        >
          Keep rule…
        </SheetAct>
        {volume.keep_above !== null && (
          <SheetAct kind="end-keep-rule" body={{ volume: ref }}>
            End the keep rule
          </SheetAct>
        )}
        <SheetAct
          kind="rename-volume"
          body={{ volume: ref }}
          title={`Rename ${volume.name}`}
          fields={[{ name: "name", label: "New name", initial: volume.name, required: true }]}
        >
          Rename…
        </SheetAct>
        <SheetAct
          kind="reformat-volume"
          body={{ volume: ref }}
          why={volume.why_in_use}
          title={`New file system on ${volume.name}`}
          fields={[
            {
              name: "file_system",
              label: "File system",
              description: "Everything on it is given up",
              kind: "select",
              options: (systems.data?.file_systems ?? []).map((f) => f.id),
              initial: volume.file_system,
              required: true,
            },
          ]}
        >
          Re-format…
        </SheetAct>
        <SheetAct kind="delete-volume" body={{ volume: ref }} why={volume.why_in_use}>
          Delete
        </SheetAct>
      </div>
    </details>
  );
}
