/** Backups as recorded facts: where the copy is, how old it is by now, and how long a restore takes. */

import { Button, Group, NumberInput, Select, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Schema, server } from "../../api/client";
import { about } from "../../api/keys";
import { useAsking } from "../../shared/form";
import { useMay } from "../../shared/me";
import { Act, Term, Trouble } from "../../shared/parts";
import { formatHours, formatWhen, Size } from "../../shared/units";

const WHOLE = "whole";

export function Backups({ pool }: { pool: Schema["PoolOut"] }) {
  const client = useQueryClient();
  const may = useMay("prepare");
  const path = { params: { path: { pool_id: pool.id } } };
  const backups = server.useQuery("get", "/api/pools/{pool_id}/backups", path);
  const [open, setOpen] = useState(false);
  const settle = () => client.invalidateQueries(about("/api/pools/{pool_id}/backups"));
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: { of: WHOLE, place: "", age_hours: 24 as number | string, link: "1 Gbit/s" },
    send: ({ of, age_hours, ...said }) =>
      ask(
        api.POST("/api/pools/{pool_id}/backups", {
          ...path,
          body: { ...said, volume_id: of === WHOLE ? null : Number(of), age_hours: Number(age_hours) },
        }),
      ),
    onSuccess: () => {
      setOpen(false);
      settle();
    },
  });
  const forget = useMutation({
    mutationFn: (volume_id: number | null) =>
      ask(api.POST("/api/pools/{pool_id}/backups/forget", { ...path, body: { volume_id } })),
    onSettled: settle,
  });
  const found = backups.data;
  return (
    <section className="paper" aria-label="Backups">
      <h2>Backups</h2>
      {backups.isError && <Trouble error={backups.error} />}
      {found?.without.length ? (
        <p className="rust" style={{ margin: "0.3rem 0" }}>
          No backup is recorded of {found.without.join(", ")}. Redundancy is no backup.
        </p>
      ) : null}
      {found && found.backups.length > 0 && (
        <table className="plain" style={{ margin: "0.3rem 0" }}>
          <tbody>
            {found.backups.map((b) => (
              <tr key={b.volume_id ?? WHOLE}>
                <td>
                  <strong>{b.about}</strong>: {b.place}
                  <div className="faint">
                    at most {Math.round(b.age_hours)} h old by now, restored over{" "}
                    <Size bytes={b.link} digits={0} />
                    /s; recorded {formatWhen(b.recorded_at)} by {b.recorded_by}
                  </div>
                </td>
                <td className="num">
                  <Term word="restore">restore</Term> {formatHours(b.restore_hours)}
                  <div>
                    <Act
                      size="compact-xs"
                      variant="subtle"
                      why={may.why}
                      onClick={() => forget.mutate(b.volume_id)}
                    >
                      Not any more
                    </Act>
                  </div>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {open ? (
        <form onSubmit={submit}>
          <div className="fields" style={{ marginTop: "0.5rem" }}>
            <Select
              label="Of"
              w={170}
              {...form.getInputProps("of")}
              allowDeselect={false}
              data={[
                { value: WHOLE, label: "the whole pool" },
                ...pool.volumes.map((v) => ({ value: String(v.id), label: v.name })),
              ]}
            />
            <TextInput label="Where it is" required w={200} {...form.getInputProps("place")} />
            <NumberInput
              label="How old it is now"
              suffix=" h"
              min={0}
              w={130}
              {...form.getInputProps("age_hours")}
            />
            <TextInput label="Link to restore over" required w={160} {...form.getInputProps("link")} />
          </div>
          <Trouble error={unplaced} />
          <Group mt="sm">
            <Button type="submit" size="xs" loading={sending.isPending}>
              Record it
            </Button>
            <Button size="xs" variant="subtle" onClick={() => setOpen(false)}>
              Leave it
            </Button>
          </Group>
        </form>
      ) : (
        <Act size="xs" variant="default" why={may.why} onClick={() => setOpen(true)}>
          Record a backup…
        </Act>
      )}
    </section>
  );
}
