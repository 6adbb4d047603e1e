/** Settings: how fast simulated time passes, one's own password, and the people. */

import {
  Button,
  Checkbox,
  Group,
  PasswordInput,
  SegmentedControl,
  Select,
  Stack,
  Text,
  TextInput,
} from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useLocation } from "react-router";
import { api, ask, type Schema, server } from "../../api/client";
import { about, EVERYTHING } from "../../api/keys";
import { useAsking } from "../../shared/form";
import { useBecome, useMay, useMe } from "../../shared/me";
import { Act, Heading, Term, Trouble, Waiting } from "../../shared/parts";
import { formatHours, formatSize, formatWhen, useUnits } from "../../shared/units";
import { Calendar } from "./Calendar";
import { FailingRules } from "./FailingRules";
import { MailOfHouse, Messages } from "./Messages";

const ROLES = ["administrator", "operator", "viewer"];

export function Settings() {
  const manage = useMay("manage-users");
  // All at once, so that nothing moves away from under a finger.
  const asked = [
    server.useQuery("get", "/api/stand-in/speed"),
    server.useQuery("get", "/api/stand-in/time"),
    server.useQuery("get", "/api/series"),
    server.useQuery("get", "/api/channels"),
    server.useQuery("get", "/api/schedules"),
    server.useQuery("get", "/api/calendar-address"),
    server.useQuery("get", "/api/failing-rules"),
    server.useQuery("get", "/api/disposal"),
    server.useQuery("get", "/api/sessions"),
    server.useQuery("get", "/api/users", {}, { enabled: manage.may }),
    server.useQuery("get", "/api/mail", {}, { enabled: manage.may }),
  ];
  const waits = asked.some((one) => one.isLoading);
  const { hash } = useLocation();
  useEffect(() => {
    if (!waits && hash) document.getElementById(hash.slice(1))?.scrollIntoView();
  }, [waits, hash]);
  if (waits) return <Waiting height={600} />;
  return (
    <>
      <Heading title="Settings" />
      <div className="columns">
        <Speed />
        <Watching />
        <Messages />
        <Calendar />
        <Password />
        <Sessions />
        {manage.may && <MailOfHouse />}
        {manage.may && <HouseRules />}
        {manage.may && <People />}
      </div>
      <FailingRules />
    </>
  );
}

/** What the house asks of whoever lets drives go, and the name that certificates are given under. */
function HouseRules() {
  const client = useQueryClient();
  const found = server.useQuery("get", "/api/disposal");
  const [house, setHouse] = useState<string | null>(null);
  // As it was chosen, until it is known whether it could be kept.
  const [pairs, setPairs] = useState<boolean | null>(null);
  const keep = useMutation({
    mutationFn: (body: { two_pairs: boolean; house: string }) =>
      ask(api.PUT("/api/disposal/rules", { body })),
    onError: () => setPairs(null),
    onSettled: () => client.invalidateQueries(about("/api/disposal")),
  });
  const renew = useMutation({ mutationFn: () => ask(api.POST("/api/disposal/keys/new")) });
  if (!found.data) return null;
  const two_pairs = pairs ?? found.data.two_pairs;
  const name = house ?? found.data.house;
  return (
    <section className="paper" aria-label="Letting drives go">
      <h2>Letting drives go</h2>
      <Checkbox
        mt="sm"
        checked={two_pairs}
        onChange={(e) => {
          setPairs(e.currentTarget.checked);
          keep.mutate({ two_pairs: e.currentTarget.checked, house: name });
        }}
        label="Two administrators approve what is wiped or taken apart"
      />
      <Group align="flex-end" mt="sm">
        <TextInput
          label="Certificates are of"
          value={name}
          onChange={(e) => setHouse(e.currentTarget.value)}
          style={{ flex: "1 1 200px" }}
        />
        <Button
          variant="default"
          loading={keep.isPending}
          onClick={() => keep.mutate({ two_pairs, house: name })}
        >
          Keep
        </Button>
      </Group>
      <Group mt="md">
        <Button variant="default" size="compact-sm" loading={renew.isPending} onClick={() => renew.mutate()}>
          Sign with a new key
        </Button>
        <Text size="sm" c="dimmed">
          {renew.isSuccess
            ? "From now on it signs. The old ones still verify."
            : "What was signed before can still be verified."}
        </Text>
      </Group>
      <Trouble error={keep.error ?? renew.error} />
    </section>
  );
}

function Speed() {
  const client = useQueryClient();
  const may = useMay("work-stand-ins");
  const speed = server.useQuery("get", "/api/stand-in/speed");
  const set = useMutation({
    mutationFn: (factor: number) => ask(api.PUT("/api/stand-in/speed", { body: { factor } })),
    onSuccess: (now) => client.setQueryData(server.queryOptions("get", "/api/stand-in/speed").queryKey, now),
  });
  const name = (f: number) =>
    f === 0 ? "at once" : f === 1 ? "real" : f === 60 ? "a minute a second" : "an hour a second";
  return (
    <section className="paper">
      <h2>
        <Term word="simulated time">Simulated time</Term>
      </h2>
      <Text size="sm" c="dimmed" mb="sm">
        How fast the hours of jobs pass on the simulated drives.
      </Text>
      {speed.data && (
        <SegmentedControl
          aria-label="Speed of simulated time"
          disabled={!may.may}
          value={String(speed.data.factor)}
          onChange={(v) => set.mutate(Number(v))}
          data={speed.data.choices.map((f) => ({ value: String(f), label: name(f) }))}
          orientation="vertical"
        />
      )}
      <Passing />
      {!may.may && <Text size="sm">{may.why}</Text>}
      <Trouble error={speed.error ?? set.error} />
    </section>
  );
}

const SPANS: [string, number][] = [
  ["A day", 24],
  ["A week", 168],
  ["A month", 720],
];

/** Days that pass for the simulated house: hosts write, what is recorded is recorded. */
function Passing() {
  const client = useQueryClient();
  const may = useMay("work-stand-ins");
  const time = server.useQuery("get", "/api/stand-in/time", {}, { refetchInterval: 30_000 });
  const settle = { onSettled: () => client.invalidateQueries(EVERYTHING) };
  const pass = useMutation({
    mutationFn: (hours: number) => ask(api.POST("/api/stand-in/time", { body: { hours } })),
    ...settle,
  });
  const stop = useMutation({ mutationFn: () => ask(api.POST("/api/stand-in/time/stop")), ...settle });
  if (!time.data) return null;
  const { now, ahead, until } = time.data;
  return (
    <>
      <Text size="sm" mt="md" aria-live="polite">
        The house's clock says <strong>{formatWhen(now)}</strong>
        {ahead > 60 && `, ${formatHours(ahead / 3600)} ahead of this machine's`}.
        {until && ` Days pass until ${formatWhen(until)}.`}
      </Text>
      <Text size="sm" c="dimmed" mb={6}>
        While days pass, hosts write what their volumes say, and everything is recorded and told as if they
        had. It is not turned back.
      </Text>
      <Group gap="xs">
        {until ? (
          <Act
            why={may.why}
            size="xs"
            variant="default"
            loading={stop.isPending}
            onClick={() => stop.mutate()}
          >
            Stop here
          </Act>
        ) : (
          SPANS.map(([name, hours]) => (
            <Act
              key={name}
              why={may.why}
              size="xs"
              variant="default"
              loading={pass.isPending}
              onClick={() => pass.mutate(hours)}
            >
              {`${name} passes`}
            </Act>
          ))
        )}
      </Group>
      <Trouble error={time.error ?? pass.error ?? stop.error} />
    </>
  );
}

function Password() {
  const become = useBecome();
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: { old: "", new: "" },
    send: (body) => ask(api.POST("/api/password", { body })),
    onSuccess: (me, form) => {
      become(me);
      form.reset();
    },
  });
  return (
    <section className="paper" id="password">
      <h2>Your password</h2>
      <form onSubmit={submit}>
        <Stack mt="xs">
          <PasswordInput
            label="Now"
            {...form.getInputProps("old")}
            autoComplete="current-password"
            required
          />
          <PasswordInput
            label="From now on"
            description="At least 8 characters"
            {...form.getInputProps("new")}
            autoComplete="new-password"
            required
          />
          <Trouble error={unplaced} />
          {sending.isSuccess && <Text size="sm">Changed. Other sessions of yours have ended.</Text>}
          <Group>
            <Button type="submit" variant="default" loading={sending.isPending}>
              Change it
            </Button>
          </Group>
        </Stack>
      </form>
    </section>
  );
}

/** What the browser says it is, in a few words. */
function browser(agent: string): string {
  const name = /(Firefox|Edg|Chrom(?:e|ium)|Safari)/.exec(agent)?.[1] ?? "a browser";
  const system = /(Windows|Android|iPhone|iPad|Mac OS|Linux)/.exec(agent)?.[1];
  return `${name === "Edg" ? "Edge" : name}${system ? ` on ${system}` : ""}`;
}

function Sessions() {
  const client = useQueryClient();
  const sessions = server.useQuery("get", "/api/sessions");
  const end = useMutation({
    mutationFn: (id: number) =>
      ask(api.DELETE("/api/sessions/{session_id}", { params: { path: { session_id: id } } })),
    onSuccess: (now) => client.setQueryData(server.queryOptions("get", "/api/sessions").queryKey, now),
  });
  return (
    <section className="paper">
      <h2>Where you are signed in</h2>
      <table className="plain">
        <tbody>
          {sessions.data?.sessions.map((s) => (
            <tr key={s.id}>
              <td>
                {browser(s.agent)}
                <div className="faint">
                  {s.address}, {s.own ? "this window" : `used ${new Date(s.seen_at).toLocaleString()}`}
                </div>
              </td>
              <td className="num">
                {!s.own && (
                  <Button size="compact-xs" variant="subtle" onClick={() => end.mutate(s.id)}>
                    End it
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {(sessions.error ?? end.error) && <Trouble error={sessions.error ?? end.error} />}
    </section>
  );
}

function People() {
  const client = useQueryClient();
  const users = server.useQuery("get", "/api/users");
  const me = useMe().data?.user;
  const settle = { onSettled: () => client.invalidateQueries(about("/api/users")) };
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: { name: "", password: "", role: "operator" },
    send: (body) => ask(api.POST("/api/users", { body })),
    onSuccess: (_, form) => form.setValues({ name: "", password: "" }),
    ...settle,
  });
  const change = useMutation({
    mutationFn: ({ id, ...body }: { id: number; role?: string; active?: boolean }) =>
      ask(
        api.PATCH("/api/users/{user_id}", {
          params: { path: { user_id: id } },
          body: body as Schema["UserChange"],
        }),
      ),
    ...settle,
  });
  return (
    <section className="paper" id="people" style={{ gridColumn: "span 1" }}>
      <h2>People</h2>
      <table className="plain">
        <tbody>
          {users.data?.users.map((u) => (
            <tr key={u.id}>
              <td className={u.active ? undefined : "faint"}>{u.name}</td>
              <td>
                <Select
                  aria-label={`Role of ${u.name}`}
                  size="xs"
                  w={135}
                  value={u.role}
                  data={ROLES}
                  onChange={(v) => v && change.mutate({ id: u.id, role: v })}
                  allowDeselect={false}
                />
              </td>
              <td className="num">
                {u.id !== me?.id && (
                  <Button
                    size="compact-xs"
                    variant="subtle"
                    onClick={() => change.mutate({ id: u.id, active: !u.active })}
                  >
                    {u.active ? "Shut out" : "Let in again"}
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Trouble error={users.error ?? change.error} />
      <form onSubmit={submit} autoComplete="off">
        <Stack mt="md" gap="xs">
          <TextInput label="Name" {...form.getInputProps("name")} required />
          <PasswordInput
            label="First password"
            {...form.getInputProps("password")}
            autoComplete="new-password"
            required
          />
          <Select label="Role" {...form.getInputProps("role")} data={ROLES} allowDeselect={false} />
          <Trouble error={unplaced} />
          <Group>
            <Button type="submit" variant="default" loading={sending.isPending}>
              Add
            </Button>
          </Group>
        </Stack>
      </form>
    </section>
  );
}

/** A token for machines that read figures, and how much room histories take. */
function Watching() {
  const client = useQueryClient();
  const may = useMay("manage-users");
  const { system } = useUnits();
  const token = server.useQuery("get", "/api/metrics-token", {}, { enabled: may.may });
  const series = server.useQuery("get", "/api/series");
  const settle = { onSettled: () => client.invalidateQueries(about("/api/metrics-token")) };
  const make = useMutation({ mutationFn: () => ask(api.POST("/api/metrics-token")), ...settle });
  const drop = useMutation({
    mutationFn: () => ask(api.POST("/api/metrics-token/drop")),
    onSuccess: () => make.reset(),
    ...settle,
  });
  return (
    <section className="paper" aria-label="What is recorded">
      <h2>What is recorded</h2>
      {series.data && (
        <Text size="sm" c="dimmed" mb="sm">
          A round every ten seconds, condensed by the minute, the hour and the day, and kept for ten years.
          That takes {formatSize(series.data.bytes_now, system, 1)} now, and at most{" "}
          {formatSize(series.data.bytes_in_ten_years, system, 1)} after ten years of as much as is watched
          now.
        </Text>
      )}
      <Text size="sm" mb={6}>
        Machines read pools, volumes, drives and what needs you at <code>/metrics</code>, in the OpenMetrics
        text format, with a token: <code>Authorization: Bearer …</code>
      </Text>
      {make.data?.token && (
        <p style={{ margin: "0.3rem 0", overflowWrap: "anywhere" }}>
          The token, shown this once: <strong>{make.data.token}</strong>
        </p>
      )}
      <Group gap="xs">
        <Act why={may.why} size="xs" variant="default" loading={make.isPending} onClick={() => make.mutate()}>
          {token.data?.there ? "Make a new token" : "Make a token"}
        </Act>
        {token.data?.there && (
          <Act
            why={may.why}
            size="xs"
            variant="subtle"
            loading={drop.isPending}
            onClick={() => drop.mutate()}
          >
            Take it away
          </Act>
        )}
      </Group>
      <Trouble error={make.error ?? drop.error} />
    </section>
  );
}
