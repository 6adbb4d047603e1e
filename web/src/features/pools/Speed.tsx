/** Speed as it is measured: what users get, what drives do for it, and what a job and its users cost one another. */
import { Button, Checkbox, Group, Modal, NumberInput, SegmentedControl, Select, Text } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Schema, server } from "../../api/client";
import { EVERYTHING } from "../../api/keys";
import { useAsking } from "../../shared/form";
import { History } from "../../shared/History";
import { useMay } from "../../shared/me";
import { Act, Trouble } from "../../shared/parts";
import { formatCount, formatResponse, formatSize, formatWhen, useUnits } from "../../shared/units";

type PoolData = Schema["PoolOut"];
type Measured = Schema["MeasuredOut"];

/** What is asked for often enough that a second look is worth it. */
const AGAIN = 10_000;

export function Speed({ pool }: { pool: PoolData }) {
  const mixes = server.useQuery("get", "/api/mixes", {}, { staleTime: Number.POSITIVE_INFINITY });
  const told = server.useQuery(
    "get",
    "/api/pools/{pool_id}/speed",
    { params: { path: { pool_id: pool.id } } },
    { refetchInterval: (query) => (query.state.data?.plays.length ? AGAIN : false) },
  );
  const prepare = useMay("prepare");
  const [measuring, setMeasuring] = useState(false);
  const [looking, setLooking] = useState(false);
  if (!told.data || !mixes.data) return null;
  const { plays, found, why_none } = told.data;
  const why = prepare.why ?? (pool.volumes.length ? null : "There is no volume yet.") ?? pool.why_closed;
  return (
    <section className="paper" aria-label="Speed">
      <h2>Speed</h2>
      {plays.length === 0 ? (
        <p className="faint" style={{ margin: "0.2rem 0 0.6rem" }}>
          Play what users would ask for, and see what the drives have to do for it, beside a job or alone.
          Nothing that is stored is changed.
        </p>
      ) : found ? (
        <Standing pool={pool} found={found} mixes={mixes.data} at={told.data.at} />
      ) : (
        <p className={why_none ? "rust" : "faint"}>
          {why_none ?? "It begins with the next round, within ten seconds."}
        </p>
      )}
      <Group gap={6} className="no-print">
        <Act why={why} size="xs" variant="default" onClick={() => setMeasuring(true)}>
          Measure…
        </Act>
        {plays.length > 0 && (
          <Button size="xs" variant="subtle" onClick={() => setLooking(!looking)} aria-expanded={looking}>
            Over time
          </Button>
        )}
      </Group>
      {looking && <OverTime pool={pool} plays={plays} />}
      <Loads pool={pool} plays={plays} mixes={mixes.data} />
      <Trouble error={told.error} />
      {measuring && <Measuring pool={pool} mixes={mixes.data} onClose={() => setMeasuring(false)} />}
    </section>
  );
}

const RECORDED = [
  { id: "operations", title: "Requests a second" },
  { id: "response", title: "Response time" },
  { id: "throughput", title: "Moved a second" },
];

/** What was recorded of it, of the whole pool or of one volume. */
function OverTime({ pool, plays }: { pool: PoolData; plays: Schema["PlayOut"][] }) {
  const [of, setOf] = useState("pool");
  const play = plays.find((p) => String(p.volume_id) === of);
  return (
    <div style={{ marginTop: "0.8rem", display: "grid", gap: "1rem" }}>
      {plays.length > 1 && (
        <SegmentedControl
          aria-label="Of what"
          size="xs"
          value={play ? of : "pool"}
          onChange={setOf}
          data={[
            { value: "pool", label: "the whole pool" },
            ...plays.map((p) => ({ value: String(p.volume_id), label: p.volume })),
          ]}
          style={{ justifySelf: "start" }}
        />
      )}
      {RECORDED.map(({ id, title }) => (
        <History
          key={id}
          series={[`${play ? "volume" : "pool"}-${id}`]}
          of={play ? play.volume_id : pool.id}
          named={play ? `Volume ${play.volume}` : `Pool ${pool.name}`}
          begin="1"
          title={title}
        />
      ))}
    </div>
  );
}

const nameOf = (mixes: Schema["MixesOut"], id: string) => mixes.mixes.find((m) => m.id === id)?.name ?? id;

/** What was measured in the last round. */
function Standing({
  pool,
  found,
  mixes,
  at,
}: {
  pool: PoolData;
  found: Measured;
  mixes: Schema["MixesOut"];
  at: string | null;
}) {
  return (
    <>
      <Table found={found} mixes={mixes} />
      <Cost beside={found.beside} />
      <AtWork pool={pool} found={found} />
      <Text size="sm" c="dimmed" mb={8}>
        Measured {at ? formatWhen(at) : ""}, once a round.
      </Text>
    </>
  );
}

function Table({ found, mixes }: { found: Measured; mixes: Schema["MixesOut"] }) {
  const { system } = useUnits();
  const several = found.volumes.length > 1;
  return (
    <div className="scroll-x" tabIndex={0}>
      <table className="plain">
        <thead>
          <tr>
            <th>volume</th>
            <th className="num">requests/s</th>
            <th className="num">moved/s</th>
            <th className="num">half within</th>
            <th className="num">95 % within</th>
            <th className="num" title="By the figures that layouts are compared by">
              figures say, at most
            </th>
          </tr>
        </thead>
        <tbody>
          {found.volumes.map((v) => (
            <tr key={v.volume_id}>
              <td style={{ minWidth: "8.5rem" }}>
                {v.name}
                <div className="faint">
                  {nameOf(mixes, v.mix)}, {v.at_once} at once
                  {v.wanted ? `, ${formatCount(v.wanted)}/s wanted` : ""}
                </div>
              </td>
              <Rates rates={v.rates} />
              <td className="num">
                {formatCount(v.estimate.operations)}/s
                <div className="faint">{formatSize(v.estimate.throughput, system)}</div>
              </td>
            </tr>
          ))}
          {several && (
            <tr>
              <td>
                <strong>together</strong>
              </td>
              <Rates rates={found.whole} />
              <td className="num">
                {formatCount(found.estimate.operations)}/s
                <div className="faint">{formatSize(found.estimate.throughput, system)}</div>
              </td>
            </tr>
          )}
        </tbody>
      </table>
    </div>
  );
}

function Rates({ rates }: { rates: Schema["PlayedRatesOut"] }) {
  const { system } = useUnits();
  return (
    <>
      <td className="num">{formatCount(rates.operations)}</td>
      <td className="num">{formatSize(rates.throughput, system)}</td>
      <td className="num">{formatResponse(rates.median)}</td>
      <td className="num">{formatResponse(rates.slow)}</td>
    </>
  );
}

/** What a job and its users cost one another. */
function Cost({ beside }: { beside: Measured["beside"] }) {
  const { system } = useUnits();
  if (!beside) return null;
  const percent = (share: number) => `${Math.max(0, Math.round(share * 100))} %`;
  return (
    <p style={{ margin: "0.5rem 0" }}>
      <strong>
        {beside.name}, {beside.pace}:
      </strong>{" "}
      it costs users {percent(beside.costs_users)} of their requests (
      {formatCount(beside.users_alone.operations)}
      /s alone, {formatCount(beside.users.operations)}/s beside it), and half of them are answered within{" "}
      {formatResponse(beside.users.median)} instead of {formatResponse(beside.users_alone.median)}. At this
      pace and beside them it moves {formatSize(beside.job, system)}/s; undisturbed it would move{" "}
      {formatSize(beside.job_alone, system)}/s.
    </p>
  );
}

const TUBE = 15;
const TALL = 54;

/** How busy each drive is, what it does for the job apart. */
function AtWork({ pool, found }: { pool: PoolData; found: Measured }) {
  const { system } = useUnits();
  const drives = found.drives.slice(0, 64);
  const place = (slot: number) => pool.places.find((p) => p.slot === slot)?.place ?? `place ${slot + 1}`;
  const percent = (share: number) => Math.round(share * 100);
  const busiest = [...found.drives].sort((a, b) => b.busy - a.busy)[0];
  if (!busiest) return null;
  return (
    <figure style={{ margin: "0.6rem 0" }}>
      <figcaption style={{ fontSize: "0.92rem" }}>
        Drives at work: the busiest, {place(busiest.slot)}, is at it {percent(busiest.busy)} % of its time
        {busiest.for_job > 0.005 && `, ${percent(busiest.for_job)} % for the job`}.
        {found.links.map((link) => (
          <span key={link.shelf}>
            {" "}
            Over the link of {link.shelf} go {formatSize(link.throughput, system)}/s of{" "}
            {formatSize(link.carries, system)}/s.
          </span>
        ))}
      </figcaption>
      <svg
        width={drives.length * (TUBE + 4)}
        height={TALL + 2}
        role="img"
        aria-label={`Drives at work: ${drives.map((d) => `${place(d.slot)} ${percent(d.busy)} %`).join(", ")}`}
        style={{ maxWidth: "100%", marginTop: 4 }}
      >
        <defs>
          <pattern id="for-job" width="4" height="4" patternUnits="userSpaceOnUse">
            <path d="M0 4L4 0" stroke="var(--ink)" strokeWidth="1.2" />
          </pattern>
        </defs>
        {drives.map((d, i) => {
          const users = (d.busy - d.for_job) * TALL;
          const job = d.for_job * TALL;
          return (
            <g key={d.slot} transform={`translate(${i * (TUBE + 4) + 1} 1)`}>
              <title>{`${place(d.slot)}: ${percent(d.busy)} % busy, ${formatCount(d.operations)} operations/s, ${formatSize(d.throughput, system)}/s`}</title>
              <rect y={TALL - users} width={TUBE} height={users} fill="var(--pine)" />
              <rect y={TALL - users - job} width={TUBE} height={job} fill="url(#for-job)" />
              <rect width={TUBE} height={TALL} rx="2" fill="none" stroke="var(--line)" />
            </g>
          );
        })}
      </svg>
      <details>
        <summary className="opens">As a table</summary>
        <div className="scroll-x" tabIndex={0} style={{ maxHeight: 240, overflowY: "auto" }}>
          <table className="plain">
            <thead>
              <tr>
                <th>drive</th>
                <th className="num">busy</th>
                <th className="num">for the job</th>
                <th className="num">operations/s</th>
                <th className="num">moved/s</th>
              </tr>
            </thead>
            <tbody>
              {found.drives.map((d) => (
                <tr key={d.slot}>
                  <td>{place(d.slot)}</td>
                  <td className="num">{percent(d.busy)} %</td>
                  <td className="num">{percent(d.for_job)} %</td>
                  <td className="num">{formatCount(d.operations)}</td>
                  <td className="num">{formatSize(d.throughput, system)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      </details>
    </figure>
  );
}

/** One measurement, now. */
function Measuring({
  pool,
  mixes,
  onClose,
}: {
  pool: PoolData;
  mixes: Schema["MixesOut"];
  onClose: () => void;
}) {
  const running = pool.jobs.find((j) => j.pace !== null && j.state === "running");
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: {
      volume_id: String(pool.volumes[0]?.id ?? ""),
      mix: "files",
      at_once: 8 as number | string,
      beside: "",
      pace: "gentle",
    },
    send: (v) =>
      ask(
        api.POST("/api/pools/{pool_id}/measure", {
          params: { path: { pool_id: pool.id } },
          body: {
            volume_id: Number(v.volume_id),
            mix: v.mix,
            at_once: v.at_once === "" ? null : Number(v.at_once),
            beside: v.beside || null,
            pace: v.pace,
          },
        }),
      ),
  });
  const mix = mixes.mixes.find((m) => m.id === form.values.mix);
  const found = sending.data;
  return (
    <Modal opened onClose={onClose} title={`Measure ${pool.name}`} size="xl">
      <form onSubmit={submit}>
        <Group align="flex-start" gap="sm">
          <Select
            label="Volume"
            data={pool.volumes.map((v) => ({ value: String(v.id), label: v.name }))}
            allowDeselect={false}
            w={170}
            {...form.getInputProps("volume_id")}
          />
          <Select
            label="What users ask for"
            data={mixes.mixes.map((m) => ({ value: m.id, label: m.name }))}
            allowDeselect={false}
            w={170}
            {...form.getInputProps("mix")}
            onChange={(value) => {
              const next = mixes.mixes.find((m) => m.id === value);
              if (next) form.setValues({ mix: next.id, at_once: next.at_once });
            }}
          />
          <NumberInput label="At once" min={1} max={256} w={90} {...form.getInputProps("at_once")} />
          {running ? (
            <Text size="sm" pt={28}>
              beside the job under way
            </Text>
          ) : (
            <>
              <Select
                label="Beside"
                data={[
                  { value: "", label: "nothing" },
                  ...Object.entries(mixes.beside).map(([id, name]) => ({
                    value: id,
                    label: `a ${name.toLowerCase()}`,
                  })),
                ]}
                allowDeselect={false}
                w={130}
                {...form.getInputProps("beside")}
              />
              {form.values.beside && (
                <SegmentedControl
                  aria-label="Pace of the job"
                  mt={25}
                  size="xs"
                  data={["gentle", "fast"]}
                  {...form.getInputProps("pace")}
                />
              )}
            </>
          )}
        </Group>
        {mix && (
          <Text size="sm" c="dimmed" mt={6}>
            {mix.about} {Math.round(mix.reads * 100)} % reads.
          </Text>
        )}
        <Group mt="sm">
          <Button type="submit" loading={sending.isPending}>
            Measure
          </Button>
          <Text size="sm" c="dimmed">
            The drives' own reckoning of time: it takes a second or two, and nothing stored is changed.
          </Text>
        </Group>
      </form>
      <Trouble error={unplaced} />
      {found && (
        <div style={{ marginTop: "0.9rem" }} role="status">
          <Table found={found} mixes={mixes} />
          <Cost beside={found.beside} />
          {(form.values.beside || running) && !found.beside && (
            <Text size="sm">Such a job would wait just now: there is nothing to measure beside.</Text>
          )}
          <AtWork pool={pool} found={found} />
        </div>
      )}
    </Modal>
  );
}

/** What simulated users ask for all the time. */
function Loads({
  pool,
  plays,
  mixes,
}: {
  pool: PoolData;
  plays: Schema["PlayOut"][];
  mixes: Schema["MixesOut"];
}) {
  const client = useQueryClient();
  const may = useMay("work-stand-ins");
  const [open, setOpen] = useState(false);
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: {
      volume_id: String(pool.volumes[0]?.id ?? ""),
      mix: "files",
      limited: false,
      wanted: 50 as number | string,
    },
    send: (v) =>
      ask(
        api.PUT("/api/stand-in/load", {
          body: {
            volume_id: Number(v.volume_id),
            mix: v.mix,
            wanted: v.limited && v.wanted !== "" ? Number(v.wanted) : null,
          },
        }),
      ),
    onSuccess: () => {
      setOpen(false);
      client.invalidateQueries(EVERYTHING);
    },
  });
  const end = useMutation({
    mutationFn: (volume_id: number) => ask(api.PUT("/api/stand-in/load", { body: { volume_id, mix: "" } })),
    onSuccess: () => client.invalidateQueries(EVERYTHING),
  });
  return (
    <div className="no-print" style={{ marginTop: "0.7rem" }}>
      {plays.map((play) => (
        <Text key={play.volume_id} size="sm" component="div">
          Simulated users of {play.volume}: {nameOf(mixes, play.mix)}
          {play.wanted ? `, ${formatCount(play.wanted)} requests a second` : ", as much as goes"}.{" "}
          <Act why={may.why} size="compact-xs" variant="subtle" onClick={() => end.mutate(play.volume_id)}>
            End it
          </Act>
        </Text>
      ))}
      {!open ? (
        <Act
          why={may.why ?? (pool.volumes.length ? null : "There is no volume yet.")}
          size="compact-xs"
          variant="default"
          onClick={() => setOpen(true)}
        >
          Let simulated users work…
        </Act>
      ) : (
        <form onSubmit={submit}>
          <Group align="flex-end" gap="xs">
            <Select
              label="On"
              size="xs"
              w={130}
              data={pool.volumes.map((v) => ({ value: String(v.id), label: v.name }))}
              allowDeselect={false}
              {...form.getInputProps("volume_id")}
            />
            <Select
              label="as"
              size="xs"
              w={140}
              data={mixes.mixes.map((m) => ({ value: m.id, label: m.name }))}
              allowDeselect={false}
              {...form.getInputProps("mix")}
            />
            <Checkbox
              label="no more than"
              size="xs"
              pb={7}
              {...form.getInputProps("limited", { type: "checkbox" })}
            />
            {form.values.limited && (
              <NumberInput
                aria-label="Requests a second"
                size="xs"
                w={110}
                suffix=" /s"
                min={1}
                {...form.getInputProps("wanted")}
              />
            )}
            <Button type="submit" size="xs" loading={sending.isPending}>
              Begin
            </Button>
          </Group>
        </form>
      )}
      <Trouble error={unplaced ?? end.error} />
    </div>
  );
}
