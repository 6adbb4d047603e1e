/** Block targets: disks for other hosts, who is let in, and a trial log-in. */

import { Group, PasswordInput, Select, Text, TextInput } from "@mantine/core";
import { keepPreviousData, useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Schema, server } from "../../api/client";
import { ACCESS, about } from "../../api/keys";
import { useAsking } from "../../shared/form";
import { useMay } from "../../shared/me";
import { Copyable } from "../../shared/once";
import { Act, Trouble, Waiting } from "../../shared/parts";
import { SheetAct, useDrawUp } from "../../shared/SheetForm";
import { Size } from "../../shared/units";
import { useHosts } from "../pools/VolumeActs";
import { Find, More, useSome } from "./Some";

export function Targets() {
  const some = useSome();
  const targets = server.useQuery(
    "get",
    "/api/access/targets",
    { params: { query: { like: some.like, limit: some.limit } } },
    { placeholderData: keepPreviousData },
  );
  const hosts = useHosts();
  if (targets.isPending || hosts.isPending) return <Waiting height={300} />;
  if (targets.isLoadingError) return <Trouble error={targets.error} />;
  // Those that have an initiator name first: they are the likely ones to log in.
  const names = [...(hosts.data?.hosts ?? [])]
    .sort((a, b) => Number(b.iqn !== null) - Number(a.iqn !== null))
    .map((h) => h.name);
  const declared = targets.data.initiators;
  return (
    <div className="stack">
      <div className="acts no-print" style={{ marginTop: 0 }}>
        <SheetAct
          kind="make-target"
          title="Serve a volume as a block target"
          fields={[
            {
              name: "volume",
              label: "Volume",
              kind: "bare volume",
              required: true,
              description: "One without a file system that is not served yet; or the name of a new one",
            },
            {
              name: "size",
              label: "Size of the new volume",
              placeholder: "500 GB",
              description: "Empty: the volume exists",
            },
            {
              name: "host",
              label: "Host that serves it",
              kind: "select",
              options: names,
              required: true,
            },
            {
              name: "iqn",
              label: "Target name",
              placeholder: "iqn.2026-01.example.fernhollow:cold.disk",
              description: "iqn.YEAR-MONTH.DOMAIN-BACKWARDS:ANYTHING",
              required: true,
            },
            {
              name: "for_hosts",
              label: "Hosts that use it",
              kind: "tags",
              options: hosts.data?.hosts.filter((h) => h.iqn).map((h) => h.name) ?? [],
              description: "By their own initiator names, which are declared with it",
            },
            {
              name: "initiators",
              label: "Further initiators",
              kind: "tags",
              options: declared.map((i) => i.iqn),
              description: "Declared before",
            },
            {
              name: "lun",
              label: "LUN",
              kind: "number",
              initial: -1,
              description: "−1: pick a free number",
            },
            { name: "shared", label: "Several hosts may use it at once", kind: "check" },
          ]}
        >
          Serve a volume…
        </SheetAct>
        <SheetAct
          kind="declare-initiator"
          title="Declare an initiator"
          fields={[
            {
              name: "iqn",
              label: "Initiator name",
              placeholder: "iqn.2026-01.example.fernhollow:sorrel",
              required: true,
            },
            {
              name: "host",
              label: "Host",
              kind: "select",
              options: names,
              description: "Empty while it is still to come",
            },
          ]}
        >
          Declare an initiator…
        </SheetAct>
      </div>
      {(some.like || targets.data.more) && <Find some={some} what="a target" />}
      {targets.data.targets.length === 0 && !some.like && (
        <p className="paper" style={{ margin: 0 }}>
          No block target yet. Make a volume with file system none, declare the initiator of the host that
          shall use it, then serve the volume.
        </p>
      )}
      {targets.data.targets.map((t) => (
        <TargetPaper key={t.id} target={t} declared={declared} hosts={names} />
      ))}
      <More some={some} more={targets.data.more} />
      {declared.length > 0 && (
        <section className="paper" aria-label="Declared initiators">
          <h2>Declared initiators</h2>
          <table className="plain stacks">
            <tbody>
              {declared.map((i) => (
                <tr key={i.iqn}>
                  <td style={{ overflowWrap: "anywhere" }}>{i.iqn}</td>
                  <td>{i.host ?? <span className="faint">no known host has this name</span>}</td>
                  <td className="rust">{i.near.length > 0 && `almost ${i.near[0]}`}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      )}
    </div>
  );
}

function TargetPaper({
  target,
  declared,
  hosts,
}: {
  target: Schema["TargetOut"];
  declared: Schema["InitiatorOut"][];
  hosts: string[];
}) {
  const inside = new Set(target.initiators.map((i) => i.iqn));
  return (
    <section className="paper" aria-label={`Target ${target.iqn}`}>
      <h2 style={{ overflowWrap: "anywhere" }}>{target.iqn}</h2>
      <div className="facts">
        <span>
          served by <strong>{target.host}</strong> at {target.address}
        </span>
        <span>{target.shared ? "several hosts at once" : "one host at a time"}</span>
      </div>
      <div className="scroll-x" tabIndex={0}>
        <table className="plain">
          <thead>
            <tr>
              <th>LUN</th>
              <th>Volume</th>
              <th className="num">size</th>
              <th className="num">written</th>
              <th className="no-print" aria-label="Acts" />
            </tr>
          </thead>
          <tbody>
            {target.luns.map((l) => (
              <tr key={l.lun}>
                <td>{l.lun}</td>
                <td>
                  {l.volume} {l.thin && <span className="faint">thin</span>}
                </td>
                <td className="num">
                  <Size bytes={l.size} />
                </td>
                <td className="num">
                  <Size bytes={l.taken} />
                </td>
                <td className="num no-print">
                  <Group gap={6} justify="flex-end" wrap="nowrap">
                    <SheetAct
                      kind="change-lun"
                      title={`Another LUN for ${l.volume}`}
                      body={{ target: target.iqn, volume: l.volume }}
                      fields={[{ name: "lun", label: "LUN", kind: "number", initial: l.lun }]}
                    >
                      Another LUN…
                    </SheetAct>
                    <SheetAct
                      kind="take-disk"
                      body={{ target: target.iqn, volume: l.volume }}
                      why={target.luns.length === 1 ? "It is the only disk; end the target instead." : null}
                    >
                      Take it away
                    </SheetAct>
                  </Group>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <h3 style={{ marginTop: "0.5rem" }}>Let in</h3>
      {target.initiators.length === 0 && <Text size="sm">Nobody.</Text>}
      {target.initiators.map((i) => (
        <div
          key={i.iqn}
          style={{ display: "flex", flexWrap: "wrap", gap: "0.2rem 0.8rem", alignItems: "center" }}
        >
          <span style={{ overflowWrap: "anywhere" }}>{i.iqn}</span>
          <span className="faint">
            {i.host ?? "no known host"}, {i.chap ? "proves itself by CHAP" : "by its name alone"}
          </span>
          {!i.host && i.near.length > 0 && <span className="rust">almost {i.near[0]}</span>}
          <SheetAct kind="shut-out" body={{ target: target.iqn, initiator: i.iqn }}>
            Shut out
          </SheetAct>
        </div>
      ))}
      <div className="acts no-print">
        <SheetAct
          kind="let-in"
          body={{ target: target.iqn }}
          title="Let an initiator in"
          fields={[
            {
              name: "initiator",
              label: "Initiator",
              kind: "select",
              required: true,
              options: declared.map((i) => i.iqn).filter((i) => !inside.has(i)),
            },
            {
              name: "instead_of",
              label: "In the place of",
              kind: "select",
              options: target.initiators.map((i) => i.iqn),
            },
          ]}
        >
          Let in…
        </SheetAct>
        <SheetAct
          kind="add-disk"
          body={{ target: target.iqn }}
          title="One more disk"
          fields={[
            { name: "volume", label: "Volume", kind: "volume", required: true },
            {
              name: "lun",
              label: "LUN",
              kind: "number",
              initial: -1,
              description: "−1: one that no other has",
            },
          ]}
        >
          Add a disk…
        </SheetAct>
        <SheetAct kind="end-target" body={{ target: target.iqn }}>
          End the target
        </SheetAct>
      </div>
      <Chap target={target} />
      <Trial target={target} hosts={hosts} declared={declared} />
      <Copyable label="For the host that logs in" text={`${target.address}:3260 ${target.iqn}`} />
    </section>
  );
}

function Chap({ target }: { target: Schema["TargetOut"] }) {
  const client = useQueryClient();
  const may = useMay("give-access");
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: { initiator: target.initiators[0]?.iqn ?? "", name: "", secret: "" },
    send: (body) =>
      ask(api.PUT("/api/targets/{target_id}/chap", { params: { path: { target_id: target.id } }, body })),
    onSuccess: (_, form) => {
      form.setValues({ secret: "" });
      client.invalidateQueries(about(...ACCESS));
    },
  });
  if (!target.initiators.length) return null;
  return (
    <details className="no-print" style={{ marginTop: "0.5rem" }}>
      <summary>CHAP name and secret</summary>
      <form
        autoComplete="off"
        className="fields"
        onSubmit={submit}
        style={{ marginTop: "0.4rem", alignItems: "flex-end" }}
      >
        <Select
          label="Initiator"
          size="xs"
          w={320}
          data={target.initiators.map((i) => i.iqn)}
          {...form.getInputProps("initiator")}
          allowDeselect={false}
        />
        <TextInput label="CHAP name" size="xs" {...form.getInputProps("name")} />
        <PasswordInput
          label="Secret, 12 characters or more"
          size="xs"
          w={220}
          {...form.getInputProps("secret")}
          autoComplete="new-password"
        />
        <Act size="xs" why={may.why} type="submit">
          {form.values.name || form.values.secret ? "Set" : "Take it away"}
        </Act>
      </form>
      {sending.data && (
        <Text size="sm" role="status">
          {sending.data.sentence}
        </Text>
      )}
      <Trouble error={unplaced} />
    </details>
  );
}

function Trial({
  target,
  hosts,
  declared,
}: {
  target: Schema["TargetOut"];
  hosts: string[];
  declared: Schema["InitiatorOut"][];
}) {
  const client = useQueryClient();
  const may = useMay("work-stand-ins");
  const [host, setHost] = useState(hosts.find((h) => h !== target.host) ?? hosts[0] ?? "");
  const [chapName, setChapName] = useState("");
  const [chapSecret, setChapSecret] = useState("");
  const body = { host, target: target.iqn, chap_name: chapName, chap_secret: chapSecret };
  const login = useMutation({ mutationFn: () => ask(api.POST("/api/targets/log-in", { body })) });
  const write = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/api/targets/write", {
          body: { ...body, lun: target.luns[0]?.lun ?? 0, size: "5 GiB" },
        }),
      ),
    onSuccess: () => client.invalidateQueries(about(...ACCESS)),
  });
  const declare = useDrawUp("declare-initiator");
  const letIn = useDrawUp("let-in");
  const instead = login.data?.instead;
  const wrong = target.initiators.find((i) => instead && i.near.includes(instead));
  const known = declared.some((i) => i.iqn === instead);
  return (
    <div className="no-print" style={{ marginTop: "0.7rem" }}>
      <div style={{ display: "flex", flexWrap: "wrap", gap: "0.5rem", alignItems: "center" }}>
        <Text size="sm" c="dimmed">
          Trial from the simulated host:
        </Text>
        <Select
          size="xs"
          w={140}
          aria-label="Host that logs in"
          data={hosts}
          value={host}
          onChange={(v) => {
            setHost(v ?? "");
            login.reset();
          }}
          allowDeselect={false}
        />
        {target.initiators.some((i) => i.chap) && (
          <>
            <TextInput
              size="xs"
              w={130}
              placeholder="CHAP name"
              aria-label="CHAP name it gives"
              value={chapName}
              onChange={(e) => setChapName(e.currentTarget.value)}
            />
            <TextInput
              size="xs"
              w={150}
              placeholder="CHAP secret"
              aria-label="CHAP secret it gives"
              type="password"
              autoComplete="off"
              value={chapSecret}
              onChange={(e) => setChapSecret(e.currentTarget.value)}
            />
          </>
        )}
        <Act
          size="xs"
          variant="default"
          why={may.why}
          loading={login.isPending}
          onClick={() => login.mutate()}
        >
          Try to log in
        </Act>
        <Act
          size="xs"
          variant="default"
          why={may.why ?? (target.luns.length ? null : "It has no disk.")}
          loading={write.isPending}
          onClick={() => write.mutate()}
        >
          Write 5 GiB
        </Act>
      </div>
      {login.data && (
        <p role="status" className={login.data.let_in ? "pine" : "rust"} style={{ margin: "0.4rem 0" }}>
          {login.data.let_in ? "Let in. " : "Refused. "}
          {login.data.sentence}
        </p>
      )}
      {login.data &&
        !login.data.let_in &&
        instead &&
        ["near-miss", "not-let-in"].includes(login.data.code) && (
          <div className="acts">
            {!known ? (
              <Act size="xs" onClick={() => declare.mutate({ iqn: instead, host })}>
                Declare the name it has
              </Act>
            ) : (
              <Act
                size="xs"
                onClick={() =>
                  letIn.mutate({ target: target.iqn, initiator: instead, instead_of: wrong?.iqn ?? "" })
                }
              >
                {wrong ? "Let it in, in the place of the mistyped name" : "Let it in"}
              </Act>
            )}
          </div>
        )}
      {write.data && (
        <Text size="sm" role="status">
          {host} writes 5 GiB to {write.data.jobs[0]?.volume}.
        </Text>
      )}
      <Trouble error={write.error ?? login.error ?? declare.error ?? letIn.error} />
    </div>
  );
}
