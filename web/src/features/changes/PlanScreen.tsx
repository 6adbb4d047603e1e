/** A plan: several change sheets that are one undertaking, approved together or one by one. */

import { Button, Group, PasswordInput, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { api, ask, type Schema, server } from "../../api/client";
import { EVERYTHING } from "../../api/keys";
import { useAsking } from "../../shared/form";
import { keyed } from "../../shared/keyed";
import { useShowOnce } from "../../shared/once";
import { Heading, StandIns, Trouble, Waiting } from "../../shared/parts";
import { useSelection } from "../../shared/selection";
import { formatWhen, Size } from "../../shared/units";

type Plan = Schema["PlanOut"];
type Sheet = Schema["SheetOut"];

export function PlanScreen() {
  const id = Number(useParams().id);
  const plan = server.useQuery("get", "/api/plans/{plan_id}", { params: { path: { plan_id: id } } });
  if (plan.isPending) return <Waiting height={400} />;
  if (plan.isLoadingError) return <Trouble error={plan.error} />;
  return <Shown key={id} plan={plan.data} />;
}

function Shown({ plan }: { plan: Plan }) {
  const open = plan.sheets.filter((s) => s.state === "draft");
  return (
    <div style={{ maxWidth: 860 }}>
      <Heading title={plan.title} named={`Plan: ${plan.title}`}>
        <span className="faint">
          a plan of {plan.sheets.length} sheets, drawn up by {plan.created_by}, {formatWhen(plan.created_at)}
        </span>
      </Heading>
      <ol style={{ listStyle: "none", margin: 0, padding: 0, display: "grid", gap: "1rem" }}>
        {plan.sheets.map((sheet, i) => (
          <li key={sheet.id}>
            <OneSheet sheet={sheet} number={i + 1} />
          </li>
        ))}
      </ol>
      {open.length > 0 && <Approval plan={plan} open={open} />}
    </div>
  );
}

const STANDING: Record<string, string> = {
  draft: "waits for approval",
  approved: "approved",
  withdrawn: "withdrawn",
};

function OneSheet({ sheet, number }: { sheet: Sheet; number: number }) {
  const { body } = sheet;
  const show = (f: Schema["FigureOut"]) => (f.bytes != null ? <Size bytes={f.bytes} /> : f.text);
  return (
    <section className="paper" aria-label={`Sheet ${number}: ${body.title}`}>
      <div style={{ display: "flex", flexWrap: "wrap", gap: "0.2rem 1rem", alignItems: "baseline" }}>
        <h2 style={{ margin: 0 }}>
          {number}. <Link to={`/changes/${sheet.id}`}>{body.title}</Link>
        </h2>
        <span className={sheet.state === "draft" ? "rust" : "faint"}>
          {STANDING[sheet.state] ?? sheet.state}
        </span>
        {sheet.pool_id !== null && sheet.state === "approved" && (
          <Link to={`/pools/${sheet.pool_id}`}>Go to the pool</Link>
        )}
      </div>
      <p style={{ margin: "0.2rem 0 0.5rem" }}>{body.why}</p>
      <div className="facts">
        {body.figures.map((f, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: figures stand in their order
          <span key={i}>
            {f.label} <strong>{show(f.after)}</strong>
          </span>
        ))}
        {body.takes.map((t) => (
          <span key={t.job}>
            {t.job} <strong>{t.hours.toFixed(1)} h</strong>
          </span>
        ))}
      </div>
      {keyed(body.cautions).map(({ key, text }) => (
        <p key={key} className="rust" style={{ margin: "0.3rem 0 0" }}>
          {text}
        </p>
      ))}
      {body.erases.length > 0 && (
        <p className={body.erases.some((e) => e.holds) ? "rust" : undefined} style={{ margin: "0.5rem 0 0" }}>
          {body.erases.some((e) => e.holds)
            ? sheet.state === "approved"
              ? "Erased: "
              : "Erases: "
            : "Drives used, all blank: "}
          {body.erases
            .map((e) => `${e.place} (${e.serial}${e.holds ? `, holds ${e.holds}` : ""})`)
            .join(", ")}
        </p>
      )}
    </section>
  );
}

function Approval({ plan, open }: { plan: Plan; open: Sheet[] }) {
  const client = useQueryClient();
  const selection = useSelection();
  const showOnce = useShowOnce();
  const params = { path: { plan_id: plan.id } };
  const key = server.queryOptions("get", "/api/plans/{plan_id}", { params }).queryKey;
  const asking = open.filter((s) => s.body.confirm !== null);
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: {
      confirms: Object.fromEntries(asking.map((s) => [String(s.id), ""])) as Record<string, string>,
      password: "",
    },
    shown: () => ["password", ...asking.map((s) => `confirms.${s.id}`)],
    send: (body) => ask(api.POST("/api/plans/{plan_id}/approve", { params, body })),
    onSuccess: (done) => {
      selection.replace([]);
      for (const sheet of done.sheets)
        if (sheet.passphrase)
          showOnce({
            pool: sheet.body.confirm ?? "",
            poolId: sheet.pool_id ?? 0,
            passphrase: sheet.passphrase,
          });
      client.setQueryData(key, done);
      client.invalidateQueries(EVERYTHING);
    },
    onSettled: (form) => form.setValues({ password: "" }),
  });
  const withdraw = useMutation({
    mutationFn: () => ask(api.POST("/api/plans/{plan_id}/withdraw", { params })),
    onSuccess: (after) => {
      client.setQueryData(key, after);
      client.invalidateQueries(EVERYTHING);
    },
  });
  const way = server.useQuery(
    "get",
    "/api/plans/{plan_id}/in-the-way",
    { params },
    { enabled: plan.why_not === null, refetchInterval: 5000 },
  );
  if (plan.why_not !== null) return <p>{plan.why_not}</p>;
  const erases = open.some((s) => s.body.erases.some((e) => e.holds));
  const typed = asking.every((s) => form.values.confirms[String(s.id)]?.trim() === s.body.confirm);
  return (
    <section
      className="paper no-print"
      aria-label="Approval"
      style={{ marginTop: "1rem", borderTop: `2px solid var(${asking.length ? "--rust" : "--pine"})` }}
    >
      <h2>Approval</h2>
      <p style={{ margin: "0.2rem 0 0" }}>
        {open.length === 1
          ? "The sheet that waits is done, or nothing is."
          : `${open.length === 2 ? "Both" : `All ${open.length}`} sheets that wait are done in this order, or nothing is. Each can also be approved by itself.`}
      </p>
      {erases && <StandIns />}
      <form autoComplete="off" onSubmit={submit}>
        <Group align="flex-start" my="sm">
          {asking.map((s) => (
            <TextInput
              key={s.id}
              label={
                <>
                  Type <strong>{s.body.confirm}</strong> to confirm
                </>
              }
              autoComplete="off"
              {...form.getInputProps(`confirms.${s.id}`)}
            />
          ))}
          {asking.length > 0 && (
            <PasswordInput
              label="Your password"
              w={220}
              autoComplete="current-password"
              {...form.getInputProps("password")}
            />
          )}
        </Group>
        {!unplaced && way.data?.sentence && (
          <p className="rust" role="status" style={{ margin: "0 0 0.4rem" }}>
            As things stand nothing of it would be done: {way.data.sentence}
          </p>
        )}
        <Trouble error={unplaced ?? withdraw.error} />
        <Group mt="sm">
          <Button
            type="submit"
            color={asking.length ? "rust" : undefined}
            loading={sending.isPending}
            disabled={asking.length > 0 && (!typed || !form.values.password)}
          >
            Approve {open.length === 1 ? "it" : open.length === 2 ? "both" : `all ${open.length}`}
            {erases ? " and erase" : ""}
          </Button>
          <Button variant="subtle" onClick={() => withdraw.mutate()} loading={withdraw.isPending}>
            Withdraw {open.length === 1 ? "it" : "them"}
          </Button>
        </Group>
      </form>
    </section>
  );
}
