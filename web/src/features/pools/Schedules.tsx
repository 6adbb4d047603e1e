/** Checks and scans by the calendar. */
import { Group, Modal, SegmentedControl, Select, Text, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask, type Schema, server } from "../../api/client";
import { EVERYTHING } from "../../api/keys";
import { useMay } from "../../shared/me";
import { Act, errorOf, Trouble } from "../../shared/parts";
import { formatWhen } from "../../shared/units";

type Schedule = Schema["ScheduleOut"];

const NAMES = { check: "Check", scan: "Surface scan" } as const;
type What = keyof typeof NAMES;

export function Schedules({ pool }: { pool: Schema["PoolOut"] }) {
  const client = useQueryClient();
  const may = useMay("run-jobs");
  const found = server.useQuery("get", "/api/pools/{pool_id}/schedules", {
    params: { path: { pool_id: pool.id } },
  });
  const [setting, setSetting] = useState<What | null>(null);
  const end = useMutation({
    mutationFn: (what: string) =>
      ask(
        api.POST("/api/pools/{pool_id}/schedules/{what}/end", {
          params: { path: { pool_id: pool.id, what } },
        }),
      ),
    onSettled: () => client.invalidateQueries(EVERYTHING),
  });
  const of = (what: string) => found.data?.schedules.find((s) => s.what === what);
  return (
    <section className="paper" aria-label="By the calendar">
      <h2>By the calendar</h2>
      {(Object.keys(NAMES) as What[]).map((what) => {
        const own = of(what);
        return (
          <div key={what} style={{ marginTop: "0.5rem" }}>
            <strong>{NAMES[what]}</strong>{" "}
            {own ? (
              <>
                {own.words}, {own.pace}.
                <Text size="sm" c={own.waits ? "var(--rust)" : "dimmed"}>
                  {own.waits ? `It is due, and waits: ${own.waits}` : `Next: ${formatWhen(own.next_at)}`}
                </Text>
              </>
            ) : (
              <span className="faint">only when somebody starts it.</span>
            )}
            <Group gap={6} mt={4}>
              <Act why={may.why} size="compact-xs" variant="default" onClick={() => setSetting(what)}>
                {own ? "Change" : "Do it by the calendar…"}
              </Act>
              {own && (
                <Act
                  why={may.why}
                  size="compact-xs"
                  variant="subtle"
                  loading={end.isPending && end.variables === what}
                  onClick={() => end.mutate(what)}
                >
                  No longer
                </Act>
              )}
            </Group>
          </div>
        );
      })}
      <Trouble error={found.error ?? end.error} />
      <Text size="sm" mt="sm">
        <Link to="/settings#calendar">Have them in your own calendar</Link>
      </Text>
      {setting && <Setting pool={pool} what={setting} own={of(setting)} onClose={() => setSetting(null)} />}
    </section>
  );
}

const OFTEN = [
  { value: "w1", label: "every week" },
  { value: "w2", label: "every 2 weeks" },
  { value: "w4", label: "every 4 weeks" },
  { value: "w13", label: "every 13 weeks" },
  { value: "m1", label: "every month, the first" },
  { value: "m2", label: "every month, the second" },
  { value: "m3", label: "every month, the third" },
  { value: "m4", label: "every month, the fourth" },
  { value: "m-1", label: "every month, the last" },
];
const DAYS = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];

function Setting({
  pool,
  what,
  own,
  onClose,
}: {
  pool: Schema["PoolOut"];
  what: What;
  own?: Schedule;
  onClose: () => void;
}) {
  const client = useQueryClient();
  const usual = own
    ? own.which !== null
      ? `m${own.which}`
      : `w${own.weeks}`
    : what === "check"
      ? "w4"
      : "m1";
  const [often, setOften] = useState(usual);
  const [day, setDay] = useState(String(own?.day ?? (what === "check" ? 6 : 5)));
  const [at, setAt] = useState(own?.at ?? "02:00");
  const [zone, setZone] = useState(own?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone ?? "UTC");
  const [pace, setPace] = useState(own?.pace ?? "gentle");
  const number = Number(often.slice(1));
  const keep = useMutation({
    mutationFn: () =>
      ask(
        api.PUT("/api/pools/{pool_id}/schedules/{what}", {
          params: { path: { pool_id: pool.id, what } },
          body: {
            day: Number(day),
            at,
            zone,
            weeks: often.startsWith("w") ? number : null,
            which: often.startsWith("m") ? number : null,
            pace,
          },
        }),
      ),
    onSuccess: onClose,
    onSettled: () => client.invalidateQueries(EVERYTHING),
  });
  const options = OFTEN.some((o) => o.value === usual)
    ? OFTEN
    : [...OFTEN, { value: usual, label: `every ${usual.slice(1)} weeks` }];
  return (
    <Modal opened onClose={onClose} title={`${NAMES[what]} of ${pool.name} by the calendar`} centered>
      <Select
        label="How often"
        data={options}
        value={often}
        onChange={(value) => value && setOften(value)}
        allowDeselect={false}
      />
      <Group grow mt="xs" align="flex-start">
        <Select
          label="Day"
          data={DAYS.map((label, index) => ({ value: String(index), label }))}
          value={day}
          onChange={(value) => value && setDay(value)}
          allowDeselect={false}
        />
        <TextInput
          label="At"
          type="time"
          value={at}
          onChange={(event) => setAt(event.currentTarget.value)}
          error={errorOf(keep.error, "at")}
        />
      </Group>
      <TextInput
        mt="xs"
        label="By the clock of"
        description="A time zone such as Europe/Paris, or UTC"
        value={zone}
        onChange={(event) => setZone(event.currentTarget.value)}
        error={errorOf(keep.error, "zone")}
      />
      <Text size="sm" mt="sm" mb={4}>
        Pace
      </Text>
      <SegmentedControl value={pace} onChange={setPace} data={["gentle", "fast"]} aria-label="Pace" />
      <Text size="sm" c="dimmed" mt="sm">
        Never beside a rebuild, or two at once: it waits until the pool has time for it.
      </Text>
      {keep.isError && !errorOf(keep.error, "at", "zone") && <Trouble error={keep.error} />}
      <Group justify="flex-end" mt="md">
        <Act loading={keep.isPending} onClick={() => keep.mutate()}>
          Keep
        </Act>
      </Group>
    </Modal>
  );
}
