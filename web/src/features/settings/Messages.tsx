/** By which ways one is told what needs somebody, when not, and whether it arrives. */
import { Button, Checkbox, Group, Modal, PasswordInput, Select, Text, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask, type Schema, server } from "../../api/client";
import { about } from "../../api/keys";
import { useMay } from "../../shared/me";
import { Act, errorOf, State, Trouble } from "../../shared/parts";
import { formatWhen } from "../../shared/units";

type Channel = Schema["ChannelOut"];

const OF = [
  { value: "now", label: "What presses now" },
  { value: "soon", label: "What is to be seen to before long" },
  { value: "sometime", label: "What can wait" },
];

export function Messages() {
  const client = useQueryClient();
  const stands = useMay("work-stand-ins");
  const found = server.useQuery("get", "/api/channels", {}, { refetchInterval: 5000 });
  const [open, setOpen] = useState<Channel | "new" | null>(null);
  const [secret, setSecret] = useState<string | null>(null);
  const settle = { onSettled: () => client.invalidateQueries(about("/api/channels")) };
  const test = useMutation({
    mutationFn: (id: number) =>
      ask(api.POST("/api/channels/{channel_id}/test", { params: { path: { channel_id: id } } })),
    ...settle,
  });
  const drop = useMutation({
    mutationFn: (id: number) =>
      ask(api.POST("/api/channels/{channel_id}/drop", { params: { path: { channel_id: id } } })),
    ...settle,
  });
  return (
    <section className="paper" aria-label="Messages to you" id="messages">
      <h2>Messages to you</h2>
      {found.data?.channels.length === 0 && (
        <Text size="sm" my={6}>
          You are told nothing yet. What needs somebody comes once, together where it happens together, and
          once more when all is well again.
        </Text>
      )}
      {found.data?.channels.map((c) => (
        <div key={c.id} style={{ borderTop: "1px solid var(--line)", padding: "0.5rem 0" }}>
          <div style={{ overflowWrap: "anywhere" }}>
            <strong>{c.address}</strong>{" "}
            <span className="faint">{c.kind === "mail" ? "by mail" : "webhook, signed"}</span>
          </div>
          <Text size="sm">
            {OF.filter((o) => c.urgencies.includes(o.value))
              .map((o) => o.label.toLowerCase())
              .join("; ")}
            {c.quiet_from !== c.quiet_to &&
              `. Quiet from ${clock(c.quiet_from)} to ${clock(c.quiet_to)} (${c.zone})${
                c.wakes ? ", but for what presses now" : ""
              }`}
            .
          </Text>
          {c.last && (
            <Text size="sm" c={c.last.error ? "var(--rust)" : "dimmed"}>
              {c.last.title}, {formatWhen(c.last.at)}:{" "}
              {c.last.state === "sent" ? "arrived" : c.last.state === "waiting" ? "on its way" : "given up"}
              {c.last.error && `; ${c.last.error}`}
              {c.last.error && c.last.next_at && `. Tried again ${formatWhen(c.last.next_at)}.`}
            </Text>
          )}
          <Group gap={6} mt={4}>
            <Button
              size="compact-xs"
              variant="default"
              loading={test.isPending && test.variables === c.id}
              onClick={() => test.mutate(c.id)}
            >
              Send a test
            </Button>
            <Button size="compact-xs" variant="default" onClick={() => setOpen(c)}>
              Change
            </Button>
            <Button
              size="compact-xs"
              variant="subtle"
              loading={drop.isPending && drop.variables === c.id}
              onClick={() => drop.mutate(c.id)}
            >
              No longer
            </Button>
          </Group>
        </div>
      ))}
      {secret && (
        <p style={{ margin: "0.4rem 0", overflowWrap: "anywhere" }}>
          What its messages are signed with, shown this once: <strong>{secret}</strong>
        </p>
      )}
      <Trouble error={found.error ?? test.error ?? drop.error} />
      <Group gap="xs" mt="xs">
        {/* Not before what stands above it is known: it would move away under the pointer. */}
        {found.data && (
          <Button size="xs" variant="default" onClick={() => setOpen("new")}>
            Be told…
          </Button>
        )}
        {stands.may && <Link to="/mailbox">The mailbox that stands in</Link>}
      </Group>
      {open && (
        <Way
          own={open === "new" ? null : open}
          hook={found.data?.stand_in_hook ?? null}
          onDone={(made) => {
            setOpen(null);
            setSecret(made.secret ?? null);
          }}
          onClose={() => setOpen(null)}
        />
      )}
    </section>
  );
}

const clock = (minute: number) =>
  `${String(Math.floor(minute / 60)).padStart(2, "0")}:${String(minute % 60).padStart(2, "0")}`;
const minutes = (text: string) => {
  const [hour, minute] = text.split(":").map(Number);
  return (hour || 0) * 60 + (minute || 0);
};

function Way({
  own,
  hook,
  onDone,
  onClose,
}: {
  own: Channel | null;
  hook: string | null;
  onDone: (made: Channel) => void;
  onClose: () => void;
}) {
  const client = useQueryClient();
  const hooks = useMay("run-jobs");
  const [kind, setKind] = useState(own?.kind ?? "mail");
  const [address, setAddress] = useState(own?.address ?? "");
  const [of, setOf] = useState<string[]>(own?.urgencies ?? ["now", "soon"]);
  const [quiet, setQuiet] = useState(own ? own.quiet_from !== own.quiet_to : false);
  const [from, setFrom] = useState(clock(own && own.quiet_from !== own.quiet_to ? own.quiet_from : 22 * 60));
  const [to, setTo] = useState(clock(own && own.quiet_from !== own.quiet_to ? own.quiet_to : 7 * 60));
  const [wakes, setWakes] = useState(own?.wakes ?? true);
  const zone = own?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone ?? "UTC";
  const keep = useMutation({
    mutationFn: () => {
      const body = {
        kind,
        address,
        urgencies: of,
        quiet_from: quiet ? minutes(from) : 0,
        quiet_to: quiet ? minutes(to) : 0,
        zone,
        wakes,
      };
      return own
        ? ask(api.PUT("/api/channels/{channel_id}", { params: { path: { channel_id: own.id } }, body }))
        : ask(api.POST("/api/channels", { body }));
    },
    onSuccess: onDone,
    onSettled: () => client.invalidateQueries(about("/api/channels")),
  });
  return (
    <Modal opened onClose={onClose} title={own ? "Be told otherwise" : "Be told"} centered>
      <Select
        label="By"
        data={[
          { value: "mail", label: "mail" },
          { value: "hook", label: "webhook (CloudEvents 1.0, signed)", disabled: !hooks.may },
        ]}
        value={kind}
        onChange={(value) => value && setKind(value)}
        allowDeselect={false}
        error={errorOf(keep.error, "kind")}
      />
      <TextInput
        mt="xs"
        label={kind === "mail" ? "Address" : "Where it is received"}
        placeholder={kind === "mail" ? "ida@house.example" : "https://there.example/storage"}
        description={kind === "hook" && hook ? `The one that stands in is at ${hook}` : undefined}
        value={address}
        onChange={(event) => setAddress(event.currentTarget.value)}
        error={errorOf(keep.error, "address")}
        data-autofocus
      />
      <Checkbox.Group
        mt="sm"
        label="Of what"
        value={of}
        onChange={setOf}
        error={errorOf(keep.error, "urgencies")}
      >
        {OF.map((one) => (
          <Checkbox key={one.value} mt={6} value={one.value} label={one.label} />
        ))}
      </Checkbox.Group>
      <Checkbox
        mt="md"
        checked={quiet}
        onChange={(event) => setQuiet(event.currentTarget.checked)}
        label={`Quiet hours, by the clock of ${zone}`}
      />
      {quiet && (
        <>
          <Group grow mt={6}>
            <TextInput
              type="time"
              label="From"
              value={from}
              onChange={(event) => setFrom(event.currentTarget.value)}
            />
            <TextInput
              type="time"
              label="To"
              value={to}
              onChange={(event) => setTo(event.currentTarget.value)}
            />
          </Group>
          <Checkbox
            mt={6}
            checked={wakes}
            onChange={(event) => setWakes(event.currentTarget.checked)}
            label="What presses now comes all the same"
          />
        </>
      )}
      {keep.isError && !errorOf(keep.error, "kind", "address", "urgencies") && <Trouble error={keep.error} />}
      <Group justify="flex-end" mt="md">
        <Button loading={keep.isPending} onClick={() => keep.mutate()}>
          Keep
        </Button>
      </Group>
    </Modal>
  );
}

/** How the house sends mail, and where the links in messages lead. */
export function MailOfHouse() {
  const found = server.useQuery("get", "/api/mail");
  if (!found.data) return null;
  return <MailForm key={JSON.stringify(found.data)} told={found.data} />;
}

function MailForm({ told }: { told: Schema["MailOut"] }) {
  const client = useQueryClient();
  const [own, setOwn] = useState(!told.stand_in);
  const [host, setHost] = useState(told.stand_in ? "" : told.host);
  const [port, setPort] = useState(told.stand_in ? "587" : String(told.port));
  const [security, setSecurity] = useState(told.stand_in ? "starttls" : told.security);
  const [user, setUser] = useState(told.user);
  const [password, setPassword] = useState("");
  const [sender, setSender] = useState(told.stand_in ? "" : told.sender);
  const [url, setUrl] = useState(told.url);
  const keep = useMutation({
    mutationFn: () =>
      ask(
        api.PUT("/api/mail", {
          body: {
            host: own ? host : null,
            port: Number(port) || 0,
            security,
            user,
            password: password || null,
            sender,
            url: url !== told.url ? url : null,
          },
        }),
      ),
    onSettled: () => client.invalidateQueries(about("/api/mail")),
  });
  return (
    <section className="paper" aria-label="How messages are sent">
      <h2>How messages are sent</h2>
      <TextInput
        mt={6}
        label="Links in them lead to"
        value={url}
        onChange={(event) => setUrl(event.currentTarget.value)}
        error={errorOf(keep.error, "url", "address")}
      />
      <Checkbox
        mt="sm"
        checked={own}
        onChange={(event) => setOwn(event.currentTarget.checked)}
        label="By a mail server of the house; otherwise to the mailbox that stands in"
      />
      {own && (
        <>
          <Group grow mt="xs" align="flex-start">
            <TextInput
              label="Mail server"
              value={host}
              onChange={(event) => setHost(event.currentTarget.value)}
              error={errorOf(keep.error, "host")}
            />
            <TextInput
              label="Port"
              value={port}
              onChange={(event) => setPort(event.currentTarget.value)}
              error={errorOf(keep.error, "port")}
            />
          </Group>
          <Select
            mt="xs"
            label="Security"
            data={["starttls", "tls", "none"]}
            value={security}
            onChange={(value) => value && setSecurity(value)}
            allowDeselect={false}
            error={errorOf(keep.error, "security")}
          />
          <TextInput
            mt="xs"
            label="Mail comes from"
            placeholder="storage@house.example"
            value={sender}
            onChange={(event) => setSender(event.currentTarget.value)}
            error={errorOf(keep.error, "sender")}
          />
          <Group grow mt="xs" align="flex-start">
            <TextInput
              label="Its user"
              value={user}
              onChange={(event) => setUser(event.currentTarget.value)}
              autoComplete="off"
            />
            <PasswordInput
              label="Its password"
              placeholder={told.has_password ? "as it was" : ""}
              value={password}
              onChange={(event) => setPassword(event.currentTarget.value)}
              autoComplete="new-password"
            />
          </Group>
        </>
      )}
      <Act mt="sm" size="sm" variant="default" loading={keep.isPending} onClick={() => keep.mutate()}>
        Keep
      </Act>
      {keep.isError && !errorOf(keep.error, "url", "address", "host", "port", "security", "sender") && (
        <Trouble error={keep.error} />
      )}
      {keep.isSuccess && <State word="kept" />}
    </section>
  );
}
