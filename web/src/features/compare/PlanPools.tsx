/** Pools for several uses, drawn up as one plan of several change sheets. */

import { Button, Group, TextInput } from "@mantine/core";
import { useNavigate } from "react-router";
import { api, ask, type Schema } from "../../api/client";
import { useAsking } from "../../shared/form";
import { useMayDo } from "../../shared/me";
import { Act, Trouble } from "../../shared/parts";
import { formatSize, useUnits } from "../../shared/units";
import { nameOf } from "./useQuestion";

type Share = Schema["ShareOut"];

/** A name that a pool can have, from what a use is called. */
function plain(name: string): string {
  return name
    .trim()
    .replace(/\s+/g, "-")
    .replace(/[^\p{L}\p{N}._-]/gu, "")
    .replace(/^[._-]+/, "")
    .slice(0, 60);
}

export function PlanPools({
  shares,
  fileSystem,
  backup,
  onClose,
}: {
  shares: Share[];
  fileSystem: string;
  backup: Record<string, string>;
  onClose: () => void;
}) {
  const may = useMayDo("build-pool");
  const { system } = useUnits();
  const go = useNavigate();
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: {
      title: `Pools for ${shares.map((s) => s.name).join(", ")}`.slice(0, 120),
      sheets: shares.map((s) => ({ name: plain(s.name), volume: plain(s.name) })),
    },
    shown: (said) => ["title", ...said.sheets.flatMap((_, i) => [`sheets.${i}.name`, `sheets.${i}.volume`])],
    send: ({ title, sheets }) =>
      ask(
        api.POST("/api/plans", {
          body: {
            title,
            sheets: shares.map((share, i) => ({
              kind: "build-pool",
              request: {
                name: sheets[i].name,
                volume: sheets[i].volume,
                scheme: share.layout?.scheme ?? "",
                sets: share.layout?.sets.length ?? 1,
                spares: share.layout?.spares.length ?? 0,
                drives: [...(share.layout?.sets.flat() ?? []), ...(share.layout?.spares ?? [])].map(Number),
                file_system: fileSystem,
                purpose: share.name,
                ...backup,
                ...(backup.backup_age_hours && { backup_age_hours: Number(backup.backup_age_hours) }),
              },
            })),
          },
        }),
      ),
    onSuccess: (plan) => go(`/changes/plans/${plan.id}`),
  });
  return (
    <form onSubmit={submit} aria-label="Plan these pools" style={{ marginTop: "1rem" }}>
      <h3 style={{ margin: "0 0 0.4rem" }}>One plan, a change sheet for each pool</h3>
      <TextInput label="Title of the plan" maw={560} {...form.getInputProps("title")} />
      {shares.map((share, i) => (
        <div className="fields" key={share.name} style={{ marginTop: "0.5rem" }}>
          <TextInput label={`Pool for ${share.name}`} w={220} {...form.getInputProps(`sheets.${i}.name`)} />
          <TextInput
            label="Its first volume"
            description={`Empty for none; otherwise all of it, ${share.layout ? formatSize(share.layout.space.usable, system) : ""}`}
            w={300}
            {...form.getInputProps(`sheets.${i}.volume`)}
          />
          <span className="faint" style={{ alignSelf: "end", paddingBottom: 8 }}>
            {share.drives.length} drives, {nameOf(share.layout)}
          </span>
        </div>
      ))}
      <Trouble error={unplaced} />
      <Group mt="sm">
        <Act type="submit" why={may.why} loading={sending.isPending}>
          Draw up the plan
        </Act>
        <Button variant="subtle" onClick={onClose}>
          Leave it
        </Button>
      </Group>
    </form>
  );
}
