/** Saved comparisons: naming one, finding one again, sharing it by its address. */

import { Button, Group, Modal, Stack, Text, Textarea, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, ask, type Schema, server } from "../../api/client";
import { about } from "../../api/keys";
import { useAsking } from "../../shared/form";
import { useMay } from "../../shared/me";
import { Act, Empty, Trouble, Waiting } from "../../shared/parts";
import { formatChance, formatWhen, Size } from "../../shared/units";
import { type Body, type Layout, nameOf, type Question } from "./useQuestion";

export function SaveThis({
  body,
  address,
  keys,
  onClose,
  onSaved,
}: {
  body: Body;
  address: string;
  keys: string[];
  onClose: () => void;
  onSaved: (saved: Schema["SavedLine"]) => void;
}) {
  const client = useQueryClient();
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: { name: "", note: "" },
    send: (said) => ask(api.POST("/api/comparisons", { body: { ...body, ...said, address, keys } })),
    onSuccess: (saved) => {
      client.invalidateQueries(about("/api/comparisons", "/api/comparisons/{comparison_id}"));
      onSaved(saved);
    },
  });
  return (
    <Modal opened onClose={onClose} title="Save this comparison" centered>
      <form onSubmit={submit}>
        <Stack>
          <TextInput
            data-autofocus
            required
            label="Name"
            placeholder="Cold Store, eight drives"
            {...form.getInputProps("name")}
          />
          <Textarea label="Note" placeholder="Why, for whom, until when" {...form.getInputProps("note")} />
          <Text size="sm" c="dimmed">
            The question is kept as it is, with today's figures of{" "}
            {keys.length === 1 ? "the layout picked" : `the ${keys.length} layouts picked and pinned`}.
          </Text>
          <Trouble error={unplaced} />
          <Group>
            <Button type="submit" loading={sending.isPending}>
              Save
            </Button>
            <Button variant="subtle" onClick={onClose}>
              Leave it
            </Button>
          </Group>
        </Stack>
      </form>
    </Modal>
  );
}

/** `/comparisons/ID`: the address to share; opens the question as it was saved. */
export function OpenSaved() {
  const { id } = useParams();
  const go = useNavigate();
  const saved = server.useQuery(
    "get",
    "/api/comparisons/{comparison_id}",
    { params: { path: { comparison_id: Number(id) } } },
    { retry: false },
  );
  useEffect(() => {
    if (saved.data) go(`/compare?${saved.data.question}&saved=${saved.data.id}`, { replace: true });
  }, [saved.data, go]);
  if (saved.isError)
    return (
      <Empty act="All saved comparisons" to="/compare?view=saved">
        {saved.error.title}
      </Empty>
    );
  return <Waiting height={400} />;
}

/** Above a comparison that was opened from a saved one: what has changed since. */
export function SavedBanner({ id, layouts }: { id: string; layouts: Layout[] }) {
  const saved = server.useQuery(
    "get",
    "/api/comparisons/{comparison_id}",
    { params: { path: { comparison_id: Number(id) } } },
    { retry: false },
  );
  if (!saved.data) return null;
  const changes = saved.data.layouts.flatMap((then) => {
    const now = layouts.find((l) => l.key === then.key);
    if (!now) return [`${nameOf(then)} is not among the layouts any more.`];
    const what = [
      now.space.usable !== then.space.usable && "usable capacity",
      now.yearly_damage !== then.yearly_damage && "the odds",
      now.rebuild_hours !== then.rebuild_hours && "the rebuild",
      now.cost.total !== then.cost.total && "the cost",
    ].filter(Boolean);
    return what.length ? [`${nameOf(then)}: ${what.join(", ")} differ from what was saved.`] : [];
  });
  return (
    <section className="paper" aria-label="Saved comparison" style={{ marginBottom: "1rem" }}>
      <strong>{saved.data.name}</strong>{" "}
      <span className="faint">
        saved {formatWhen(saved.data.created_at)} by {saved.data.created_by}
      </span>
      {saved.data.note && <p style={{ margin: "0.3rem 0 0" }}>{saved.data.note}</p>}
      <p className={changes.length ? "rust" : "faint"} style={{ margin: "0.3rem 0 0" }}>
        {changes.length ? changes.join(" ") : "The figures are the same today."}
      </p>
    </section>
  );
}

export function SavedList({ q }: { q: Question }) {
  const client = useQueryClient();
  const may = useMay("prepare");
  const saved = server.useQuery("get", "/api/comparisons", { params: { query: { limit: 100 } } });
  const [sure, setSure] = useState<number | null>(null);
  const remove = useMutation({
    mutationFn: (id: number) =>
      ask(api.POST("/api/comparisons/{comparison_id}/remove", { params: { path: { comparison_id: id } } })),
    onSettled: () => {
      setSure(null);
      client.invalidateQueries(about("/api/comparisons", "/api/comparisons/{comparison_id}"));
    },
  });
  if (saved.isLoadingError) return <Trouble error={saved.error} />;
  if (!saved.data) return <Waiting />;
  if (!saved.data.comparisons.length)
    return (
      <Empty act="Compare layouts" to="/compare">
        No comparison has been saved yet. Compare layouts, then choose Save.
      </Empty>
    );
  return (
    <div className="paper scroll-x" tabIndex={0}>
      {remove.isError && <Trouble error={remove.error} />}
      <table className="plain">
        <thead>
          <tr>
            <th>name</th>
            <th>layouts kept</th>
            <th className="num">usable</th>
            <th className="num">damage a year</th>
            <th>saved</th>
            <th aria-label="Acts" />
          </tr>
        </thead>
        <tbody>
          {saved.data.comparisons.map((c) => (
            <tr key={c.id}>
              <td>
                <Link to={`/comparisons/${c.id}`}>{c.name}</Link>
                {c.note && <div className="faint">{c.note}</div>}
              </td>
              <td>
                {c.layouts.map((l) => (
                  <div key={l.key}>{nameOf(l)}</div>
                ))}
              </td>
              <td className="num">
                {c.layouts.map((l) => (
                  <div key={l.key}>
                    <Size bytes={l.space.usable} />
                  </div>
                ))}
              </td>
              <td className="num">
                {c.layouts.map((l) => (
                  <div key={l.key}>{formatChance(l.yearly_damage)}</div>
                ))}
              </td>
              <td style={{ whiteSpace: "nowrap" }}>
                {formatWhen(c.created_at)}
                <div className="faint">{c.created_by}</div>
              </td>
              <td className="num">
                {sure === c.id ? (
                  <Group gap="xs" justify="flex-end" wrap="nowrap">
                    <Button size="compact-sm" color="rust" onClick={() => remove.mutate(c.id)}>
                      Remove it
                    </Button>
                    <Button size="compact-sm" variant="subtle" onClick={() => setSure(null)}>
                      Keep it
                    </Button>
                  </Group>
                ) : (
                  <Group gap="xs" justify="flex-end" wrap="nowrap">
                    {q.ready && (
                      <Button
                        size="compact-sm"
                        variant="subtle"
                        onClick={() => q.put({ view: null, beside: String(c.id) })}
                      >
                        Set beside mine
                      </Button>
                    )}
                    <Act size="compact-sm" variant="subtle" why={may.why} onClick={() => setSure(c.id)}>
                      Remove…
                    </Act>
                  </Group>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
