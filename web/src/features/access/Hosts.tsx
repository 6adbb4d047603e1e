/** Hosts: what each mounts, what runs on it, and how it is reached. */

import { Button, Group, Modal, Stack, Text, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Schema } from "../../api/client";
import { ACCESS, about } from "../../api/keys";
import { useAsking } from "../../shared/form";
import { useMay } from "../../shared/me";
import { Copyable } from "../../shared/once";
import { Act, Term, Trouble, Waiting } from "../../shared/parts";
import { type FieldSpec, SheetAct } from "../../shared/SheetForm";
import { Size } from "../../shared/units";
import { useHosts } from "../pools/VolumeActs";
import { Install } from "./Install";
import { Find, More, useSome } from "./Some";

export function Hosts() {
  const some = useSome();
  const hosts = useHosts(some.like, some.limit);
  if (hosts.isPending) return <Waiting height={300} />;
  if (hosts.isLoadingError) return <Trouble error={hosts.error} />;
  if (!hosts.data.hosts.length && !some.like) {
    return (
      <section className="paper" aria-label="The first host">
        <h2>No hosts yet</h2>
        <p style={{ margin: "0.3rem 0 0.8rem" }}>
          A host is a computer that uses volumes or has drives of its own. Add one here, or name it when you
          add a shelf.
        </p>
        <AddHost />
      </section>
    );
  }
  return (
    <div className="stack">
      <div className="no-print">
        <AddHost />
      </div>
      {(some.like || hosts.data.more || hosts.data.hosts.length > 8) && <Find some={some} what="a host" />}
      {hosts.data.hosts.map((h) => (
        <HostPaper key={h.id} host={h} all={hosts.data} />
      ))}
      <More some={some} more={hosts.data.more} />
    </div>
  );
}

/** A host by itself: it can mount volumes whether it has shelves or not. */
function AddHost() {
  const client = useQueryClient();
  const may = useMay("manage-drives");
  const [open, setOpen] = useState(false);
  const { form, sending, submit, unplaced, attention } = useAsking({
    initialValues: { name: "", site: "" },
    send: (body) => ask(api.POST("/api/hosts", { body })),
    onSuccess: (_, form) => {
      client.invalidateQueries();
      form.reset();
      setOpen(false);
    },
  });
  return (
    <>
      <Act size="xs" variant="default" why={may.why} onClick={() => setOpen(true)}>
        Add host…
      </Act>
      <Modal opened={open} onClose={() => setOpen(false)} title="Add host">
        <form onSubmit={submit} autoComplete="off">
          <Stack gap="sm">
            <TextInput
              label="Name"
              placeholder="oak"
              required
              data-autofocus
              {...form.getInputProps("name")}
            />
            <TextInput label="Site" description="Empty: the site there is" {...form.getInputProps("site")} />
            <Trouble error={unplaced} />
            <Group>
              <Button type="submit" loading={sending.isPending}>
                Add host
              </Button>
              <Button variant="subtle" onClick={() => setOpen(false)}>
                Cancel
              </Button>
              {attention && <span className="rust">{attention}</span>}
            </Group>
          </Stack>
        </form>
      </Modal>
    </>
  );
}

function HostPaper({ host, all }: { host: Schema["HostUseOut"]; all: Schema["HostsUseOut"] }) {
  return (
    <section className="paper" aria-label={`Host ${host.name}`}>
      <div style={{ display: "flex", flexWrap: "wrap", gap: "0.3rem 1rem", alignItems: "baseline" }}>
        <h2>{host.name}</h2>
        <span className="facts">
          <span>{host.site}</span>
          <span>
            {host.letters ? "names volumes by letters, or mounts them in folders" : "mounts in folders"}
          </span>
          {host.mounts.length === 0 && <span>mounts nothing yet</span>}
          {host.address && <span>{host.address}</span>}
          {host.storage_address && (
            <span>
              storage network <strong>{host.storage_address}</strong>
            </span>
          )}
          {host.link && (
            <span>
              link <Size bytes={host.link} />
              /s
            </span>
          )}
          {host.iqn && (
            <span style={{ overflowWrap: "anywhere" }}>
              logs in as <strong>{host.iqn}</strong>
            </span>
          )}
        </span>
      </div>
      {host.mounts.length > 0 ? (
        <div className="scroll-x" tabIndex={0}>
          <table className="plain stacks" style={{ marginTop: "0.4rem" }}>
            <thead>
              <tr>
                <th>Mounted at</th>
                <th>Volume</th>
                <th>Options</th>
                <th />
              </tr>
            </thead>
            <tbody>
              {host.mounts.map((m) => (
                <tr key={m.at}>
                  <td data-label="Mounted at">{m.at}</td>
                  <td data-label="Volume">{m.volume}</td>
                  <td data-label="Options" title={m.explained.join(" ")}>
                    {[
                      m.read_only ? "reading only" : "reading and writing",
                      m.access_times ? "notes reading times" : "no reading times",
                      m.required ? "needed to start" : "may be absent",
                    ].join(", ")}
                  </td>
                  <td className="num no-print">
                    <SheetAct kind="unmount-volume" body={{ host: host.name, mount_point: m.at }}>
                      Unmount
                    </SheetAct>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      ) : null}
      {host.mounts.length > 0 && !host.letters && (
        <details style={{ marginTop: "0.4rem" }}>
          <summary>
            Its <Term word="mount table" />
          </summary>
          <Copyable text={host.mounts.map((m) => m.line).join("\n")} />
        </details>
      )}
      {host.applications.map((a) => (
        <ApplicationLine key={a.id} host={host.name} app={a} all={all} />
      ))}
      <div className="acts no-print">
        <SheetAct
          kind="mount-volume"
          body={{ host: host.name }}
          title={`Mount a volume on ${host.name}`}
          fields={[
            { name: "volume", label: "Volume", kind: "volume", required: true },
            {
              name: "mount_point",
              label: host.letters ? "Drive letter, or a folder" : "Mount point",
              placeholder: host.letters ? "S: or C:/scans" : "/srv/scans",
              required: true,
            },
            { name: "read_only", label: "Reading only", kind: "check" },
            { name: "required", label: "The host does not start without it", kind: "check" },
            { name: "move_aside", label: "Move what lies in the folder aside", kind: "check" },
          ]}
        >
          Mount a volume…
        </SheetAct>
        <SheetAct kind="drain" body={{ hosts: [host.name] }}>
          Drain its drives
        </SheetAct>
        <SheetAct
          kind="set-host"
          body={{ host: host.name }}
          title={`${host.name} on the network`}
          fields={hostFields(host)}
        >
          On the network…
        </SheetAct>
        <Install host={host.name} kinds={all.kinds} />
      </div>
    </section>
  );
}

function hostFields(host: Schema["HostUseOut"]): FieldSpec[] {
  return [
    { name: "address", label: "Address", placeholder: "192.168.20.4", initial: host.address ?? "" },
    {
      name: "storage_address",
      label: "Address on the storage network",
      description: "A network of its own for block traffic, with its size; no gateway",
      placeholder: "10.9.0.4/24",
      initial: host.storage_address ?? "",
    },
    { name: "gateway", label: "Gateway of the storage network", description: "Stays empty" },
    {
      name: "link",
      label: "Speed of its storage link",
      placeholder: "10 Gbit/s",
      initial: host.link ? `${host.link} B/s` : "",
    },
    {
      name: "iqn",
      label: "Initiator name",
      description: "The name it logs in to block targets by",
      placeholder: `iqn.2026-01.example.fernhollow:${host.name}`,
      initial: host.iqn ?? "",
    },
    { name: "letters", label: "It names volumes by drive letters", kind: "check", initial: host.letters },
  ];
}

function ApplicationLine({
  host,
  app,
  all,
}: {
  host: string;
  app: Schema["ApplicationOut"];
  all: Schema["HostsUseOut"];
}) {
  const client = useQueryClient();
  const may = useMay("work-stand-ins");
  const [said, setSaid] = useState("");
  const write = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/api/applications/{application_id}/write", {
          params: { path: { application_id: app.id } },
          body: { size: "5 GiB" },
        }),
      ),
    onSuccess: (got) => {
      setSaid(got.jobs.length ? `writes to ${got.jobs[0].volume}` : "wrote to the host's own disk");
      client.invalidateQueries(about(...ACCESS));
    },
  });
  const ref = `${host}/${app.name}`;
  return (
    <div style={{ borderTop: "1px solid var(--line)", marginTop: "0.7rem", paddingTop: "0.6rem" }}>
      <div className="facts">
        <span>
          <strong>{app.name}</strong> ({app.kind}), {app.running ? "running" : "stopped"}
        </span>
        <span>
          data in <strong>{app.folder}</strong> {app.volume ? `on ${app.volume}` : "on the host's own disk"}
        </span>
        {app.own_bytes !== null && (
          <span>
            <Size bytes={app.own_bytes} />
          </span>
        )}
        <span>owner {app.owner}</span>
        {app.folder_scheme && (
          <span>
            folders {app.folder_scheme}, {app.files_per_folder} files each
          </span>
        )}
        {said && (
          <span role="status">
            {app.name} {said}.
          </span>
        )}
      </div>
      {app.fills_up && (
        <Text size="sm" className="rust">
          It writes recordings to {app.volume} and nothing is ever deleted there: set a keep rule on that
          volume.
        </Text>
      )}
      <div className="acts no-print">
        {app.volume ? (
          <SheetAct kind="undo-move" body={{ application: ref }} why={app.moved ? null : "It was not moved."}>
            Bring it back
          </SheetAct>
        ) : (
          <SheetAct
            kind="move-application"
            body={{ application: ref }}
            title={`Move ${app.name} onto a volume`}
            fields={[
              { name: "volume", label: "Volume", kind: "volume", required: true },
              {
                name: "way",
                label: "How",
                kind: "select",
                required: true,
                initial: "mount",
                options: [
                  { value: "mount", label: "Mount the volume at its folder; its settings stay" },
                  { value: "point", label: "Name a folder on the mounted volume in its settings" },
                ],
              },
            ]}
          >
            Move onto a volume…
          </SheetAct>
        )}
        <SheetAct
          kind="set-folders"
          body={{ application: ref }}
          title={`Folders of ${app.name}`}
          fields={[
            {
              name: "folder_scheme",
              label: "Folder scheme",
              kind: "select",
              required: true,
              initial: app.folder_scheme ?? "by-date",
              options: Object.entries(all.folder_schemes).map(([value, about]) => ({
                value,
                label: about ?? value,
              })),
            },
            {
              name: "files_per_folder",
              label: "Files in a folder, at most",
              kind: "number",
              initial: app.files_per_folder ?? 1000,
            },
            { name: "owner", label: "Owner", initial: app.owner },
          ]}
        >
          Folders…
        </SheetAct>
        <Act
          size="xs"
          variant="default"
          why={may.why}
          loading={write.isPending}
          onClick={() => write.mutate()}
        >
          Let it write 5 GiB
        </Act>
      </div>
      <Trouble error={write.error} />
    </div>
  );
}
