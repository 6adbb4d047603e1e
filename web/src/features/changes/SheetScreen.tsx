/** The change sheet: one sheet of paper that says what will happen, and the approval at its foot. */

import { Button, Group, PasswordInput, Text, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, ask, Problem, type Schema, server } from "../../api/client";
import { EVERYTHING } from "../../api/keys";
import { useAsking } from "../../shared/form";
import { JobLine } from "../../shared/JobLine";
import { keyed } from "../../shared/keyed";
import { Copyable, useShowOnce } from "../../shared/once";
import { StandIns, Trouble, useTitle, Waiting } from "../../shared/parts";
import { useSelection } from "../../shared/selection";
import { formatHours, formatWhen, Size } from "../../shared/units";

type Sheet = Schema["SheetOut"];

export function SheetScreen() {
  const id = Number(useParams().id);
  const sheet = server.useQuery(
    "get",
    "/api/sheets/{sheet_id}",
    { params: { path: { sheet_id: id } } },
    { retry: false },
  );
  useTitle(sheet.data?.body.title);
  if (sheet.isPending) return <Waiting height={500} />;
  if (sheet.isLoadingError) return <Trouble error={sheet.error} />;
  const { body, ...about } = sheet.data;
  // Where no users share the drives' time, there is one figure.
  const shared = body.takes.some((t) => t.fast_hours !== t.hours || t.gentle_hours !== t.hours);
  return (
    <article
      className="paper"
      style={{
        maxWidth: 820,
        margin: "0 auto",
        padding: "2rem clamp(1rem, 4vw, 2.6rem)",
        boxShadow: "0 2px 14px rgb(60 45 20 / 10%)",
      }}
    >
      <Text size="sm" c="dimmed">
        Change sheet {about.id} · drawn up by {about.created_by}, {formatWhen(about.created_at)}
        {about.approved_by &&
          about.approved_at &&
          ` · approved by ${about.approved_by}, ${formatWhen(about.approved_at)}`}
        {about.state === "withdrawn" && " · withdrawn"}
      </Text>
      <h1 style={{ margin: "0.2rem 0 0.4rem" }}>{body.title}</h1>
      {about.plan && (
        <p style={{ margin: "0 0 0.4rem" }}>
          Sheet {about.plan.number} of {about.plan.of} of the plan{" "}
          <Link to={`/changes/plans/${about.plan.id}`}>{about.plan.title}</Link>
          {about.state !== "draft" && about.plan.next !== null && (
            <>
              {" "}
              · <Link to={`/changes/${about.plan.next}`}>the next sheet that waits</Link>
            </>
          )}
        </p>
      )}
      <p style={{ margin: 0 }}>{body.why}</p>
      {body.cautions.length > 0 && (
        <Part title="Take care">
          {keyed(body.cautions).map(({ key, text }) => (
            <p key={key} className="rust" style={{ margin: "0.2rem 0" }}>
              {text}
            </p>
          ))}
        </Part>
      )}
      {body.figures.length > 0 && (
        <Part title="Before and after">
          <Figures figures={body.figures} />
        </Part>
      )}
      <House house={about.house ?? null} effect={body.effect} done={about.state === "approved"} />
      {body.findings.length > 0 && (
        <Part title="Looked at beforehand">
          {body.findings.map((f, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: what was found stands in its order
            <p key={i} className={f.blocks ? "rust" : undefined} style={{ margin: "0.2rem 0" }}>
              {f.sentence}
            </p>
          ))}
        </Part>
      )}
      <Part
        title={
          body.erases.some((e) => e.holds)
            ? "Erased"
            : body.gives_up.length
              ? "Given up"
              : body.erases.length
                ? "Nothing is lost"
                : "Nothing is erased"
        }
      >
        <Erases erases={body.erases} done={about.state === "approved"} large={body.kind === "wipe"} />
        {keyed(body.gives_up).map(({ key, text }) => (
          <p key={key} className="rust" style={{ margin: "0.2rem 0" }}>
            {text}
          </p>
        ))}
      </Part>
      {body.texts.length > 0 && (
        <Part title="To copy">
          {body.texts.map((t) => (
            <Copyable key={t.label + t.text} label={t.label} text={t.text} />
          ))}
        </Part>
      )}
      {body.takes.length > 0 && (
        <Part title="How long">
          <div className="scroll-x" tabIndex={0}>
            <table className="plain">
              <thead>
                <tr>
                  <th />
                  <th className="num">{shared ? "if nobody uses the pool" : "takes"}</th>
                  {shared && <th className="num">fast</th>}
                  {shared && <th className="num">gentle</th>}
                </tr>
              </thead>
              <tbody>
                {body.takes.map((t) => (
                  <tr key={t.job}>
                    <td>{t.job}</td>
                    <td className="num">{formatHours(t.hours)}</td>
                    {shared && <td className="num">{formatHours(t.fast_hours)}</td>}
                    {shared && <td className="num">{formatHours(t.gentle_hours)}</td>}
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        </Part>
      )}
      {body.meanwhile.length > 0 && (
        <Part title="Meanwhile">
          <Lines lines={body.meanwhile} />
        </Part>
      )}
      {body.fixed.length > 0 && (
        <Part title="Fixed from now on">
          <Lines lines={body.fixed} />
        </Part>
      )}
      <Part title="Steps">
        <ol style={{ margin: 0, paddingLeft: "1.3rem" }}>
          {keyed(body.steps).map(({ key, text }) => (
            <li key={key} style={{ margin: "0.15rem 0" }}>
              {text}
            </li>
          ))}
        </ol>
      </Part>
      {about.state === "draft" && <Approval sheet={sheet.data} />}
      {about.state === "approved" && <Done sheet={sheet.data} />}
    </article>
  );
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section style={{ marginTop: "1.3rem" }}>
      <h2 style={{ borderBottom: "1px solid var(--line)", paddingBottom: 3, marginBottom: "0.5rem" }}>
        {title}
      </h2>
      {children}
    </section>
  );
}

function Lines({ lines }: { lines: string[] }) {
  return keyed(lines).map(({ key, text }) => (
    <p key={key} style={{ margin: "0.2rem 0" }}>
      {text}
    </p>
  ));
}

const HOUSE = [
  { name: "capacity", label: "Usable capacity of pools" },
  { name: "given", label: "Allocated to volumes" },
  { name: "left", label: "Free in pools" },
  { name: "drives_capacity", label: "Drives of spread pools" },
  { name: "drives_given", label: "Allocated on them, with redundancy" },
  { name: "in_use", label: "Drives in use" },
  { name: "free", label: "Free drives" },
] as const;

/** What becomes of the figures of the whole house, where the change touches them. */
function House({
  house,
  effect,
  done,
}: {
  house: Schema["HouseOut"] | null;
  effect: Schema["EffectOut"];
  done: boolean;
}) {
  if (!house || !Object.values(effect).some((n) => n !== 0)) return null;
  const before = { ...house, left: house.capacity - house.given };
  const adds = { ...effect, left: effect.capacity - effect.given };
  const show = (name: (typeof HOUSE)[number]["name"], value = 0) =>
    name === "in_use" || name === "free" ? { text: String(value) } : { bytes: Math.max(0, value) };
  return (
    <Part title={done ? "Totals before and after" : "Totals now and afterwards"}>
      <Figures
        figures={HOUSE.filter(({ name }) => adds[name] !== 0).map(({ name, label }) => ({
          label,
          before: { text: null, bytes: null, ...show(name, before[name]) },
          after: { text: null, bytes: null, ...show(name, (before[name] ?? 0) + (adds[name] ?? 0)) },
        }))}
      />
    </Part>
  );
}

function Figures({ figures }: { figures: Schema["BeforeAfterOut"][] }) {
  const show = (f: Schema["FigureOut"]) => (f.bytes != null ? <Size bytes={f.bytes} /> : f.text);
  return (
    <div className="scroll-x" tabIndex={0}>
      <table className="plain">
        <thead>
          <tr>
            <th />
            <th className="num">before</th>
            <th className="num">after</th>
          </tr>
        </thead>
        <tbody>
          {figures.map((f, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: figures stand in their order
            <tr key={i}>
              <td>{f.label}</td>
              <td className="num faint">{show(f.before)}</td>
              <td className="num" style={{ fontWeight: 600 }}>
                {show(f.after)}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Erases({
  erases,
  done,
  large,
}: {
  erases: Schema["ErasedOut"][];
  done: boolean;
  /** The serials are to be read off from a distance. */
  large: boolean;
}) {
  if (!erases.length) return null;
  const other = erases.filter((e) => e.holds);
  const these = erases.length === 1 ? "This drive" : `These ${erases.length} drives`;
  return (
    <div className={other.length ? "rust" : undefined}>
      <p style={{ margin: "0 0 0.4rem" }}>
        {other.length === 0
          ? `${these} ${done ? (erases.length === 1 ? "was" : "were") : erases.length === 1 ? "is" : "are"} blank; nothing is lost.`
          : `${done ? "Everything that was on" : "Everything on"} ${these.toLowerCase()}${done ? " was erased." : " is erased."}`}
        {other.length > 0 &&
          erases.length > 1 &&
          ` ${other.length} of them ${other.length === 1 ? "holds" : "hold"} other data.`}
      </p>
      <div style={{ columns: "250px 2", columnGap: "2rem" }}>
        {erases.map((e) => (
          <div key={e.drive_id} style={{ breakInside: "avoid", padding: "1px 0" }}>
            {large ? (
              <>
                <strong style={{ fontSize: "1.35rem" }}>{e.serial}</strong>
                <br />
                {e.place} · <Size bytes={e.size} digits={1} />
              </>
            ) : (
              <>
                {e.place} · {e.serial} · <Size bytes={e.size} digits={1} />
              </>
            )}
            {e.holds && <strong> · {e.holds}</strong>}
          </div>
        ))}
      </div>
      <StandIns />
    </div>
  );
}

function Approval({ sheet }: { sheet: Sheet }) {
  const client = useQueryClient();
  const go = useNavigate();
  const selection = useSelection();
  const showOnce = useShowOnce();
  const path = { path: { sheet_id: sheet.id } };
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: { confirm: "", password: "" },
    send: (body) => ask(api.POST("/api/sheets/{sheet_id}/approve", { params: path, body })),
    onSuccess: (done) => {
      // What was chosen has its duty now.
      if (done.body.kind === "build-pool") selection.replace([]);
      if (done.passphrase)
        showOnce({ pool: done.body.confirm ?? "", poolId: done.pool_id ?? 0, passphrase: done.passphrase });
      client.setQueryData(
        server.queryOptions("get", "/api/sheets/{sheet_id}", { params: { path: { sheet_id: sheet.id } } })
          .queryKey,
        done,
      );
      client.invalidateQueries(EVERYTHING);
    },
    onSettled: (form) => form.setValues({ password: "" }),
  });
  const withdraw = useMutation({
    mutationFn: () => ask(api.POST("/api/sheets/{sheet_id}/withdraw", { params: path })),
    onSuccess: () => go("/changes"),
  });
  const way = server.useQuery(
    "get",
    "/api/sheets/{sheet_id}/in-the-way",
    { params: path },
    { enabled: sheet.may_approve, refetchInterval: 5000 },
  );
  if (!sheet.may_approve) {
    return (
      <Part title="Approval">
        <p style={{ margin: 0 }}>{sheet.why_not}</p>
      </Part>
    );
  }
  const name = sheet.body.confirm;
  const general = unplaced ?? withdraw.error;
  const stale = general instanceof Problem && ["changed-since", "drive-not-free"].includes(general.code);
  return (
    <section
      className="no-print"
      style={{
        marginTop: "1.6rem",
        borderTop: `2px solid var(${name ? "--rust" : "--pine"})`,
        paddingTop: "1rem",
      }}
      aria-label="Approval"
    >
      <h2>Approval</h2>
      {sheet.seconded_by && (
        <p role="status" style={{ margin: "0.3rem 0 0" }}>
          {sheet.seconded_by} has approved it. It is done once another administrator has, too.
        </p>
      )}
      <form autoComplete="off" onSubmit={submit}>
        <Group align="flex-start" my="sm">
          {name && (
            <TextInput
              label={
                <>
                  Type <strong>{name}</strong> to confirm
                </>
              }
              {...form.getInputProps("confirm")}
              autoComplete="off"
            />
          )}
          {name && (
            <PasswordInput
              label="Your password"
              w={220}
              {...form.getInputProps("password")}
              autoComplete="current-password"
            />
          )}
        </Group>
        {!general && way.data?.sentence && (
          <p className="rust" role="status" style={{ margin: "0 0 0.4rem" }}>
            As things stand it would not be done: {way.data.sentence}
          </p>
        )}
        {general && (
          <Trouble error={general}>
            {stale && sheet.body.kind === "build-pool" && <Link to="/compare">Compare again</Link>}
          </Trouble>
        )}
        <Group mt="sm">
          <Button
            type="submit"
            color={name ? "rust" : undefined}
            loading={sending.isPending}
            disabled={name !== null && (!form.values.password || form.values.confirm.trim() !== name)}
          >
            Approve
            {sheet.body.erases.some((e) => e.holds)
              ? " and erase"
              : name && !sheet.body.erases.length
                ? " and give up"
                : ""}
          </Button>
          <Button variant="subtle" onClick={() => withdraw.mutate()} loading={withdraw.isPending}>
            Withdraw the sheet
          </Button>
        </Group>
      </form>
    </section>
  );
}

/** The view of Access that shows what came of a kind of change. */
const ACCESS: Record<string, string> = {
  "mount-volume": "hosts",
  "unmount-volume": "hosts",
  "set-host": "hosts",
  "move-application": "hosts",
  "undo-move": "hosts",
  "set-folders": "hosts",
  "add-party": "people",
  "set-members": "people",
  "make-share": "shares",
  "change-share": "shares",
  "end-share": "shares",
  "declare-initiator": "targets",
  "make-target": "targets",
  "add-disk": "targets",
  "change-lun": "targets",
  "take-disk": "targets",
  "let-in": "targets",
  "shut-out": "targets",
  "end-target": "targets",
};

function Done({ sheet }: { sheet: Sheet }) {
  return (
    <Part title="What came of it">
      {sheet.waiting.length > 0 && (
        <div role="status" className="rust">
          Still to be done; it is tried again by itself:
          <ul style={{ margin: "0.2rem 0 0.6rem" }}>
            {keyed(sheet.waiting).map(({ key, text }) => (
              <li key={key}>{text}</li>
            ))}
          </ul>
        </div>
      )}
      {sheet.jobs.map((job) => (
        <JobLine key={job.id} job={job} />
      ))}
      {sheet.pool_id !== null && (
        <Button component={Link} to={`/pools/${sheet.pool_id}`} mt="xs" mr="xs">
          Go to the pool
        </Button>
      )}
      {ACCESS[sheet.body.kind] && (
        <Button component={Link} to={`/access/${ACCESS[sheet.body.kind]}`} mt="xs" variant="default">
          Go to {ACCESS[sheet.body.kind]}
        </Button>
      )}
    </Part>
  );
}
