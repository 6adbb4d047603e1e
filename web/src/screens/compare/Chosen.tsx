/** The layout that is looked at: its cut, its space account, what a failure would leave, and building it. */
import { Button, Text } from "@mantine/core";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, ask, type Schema } from "../../api/client";
import { Cut } from "../../shared/Cut";
import { useMay } from "../../shared/me";
import { Act, Term, Trouble, Waiting } from "../../shared/parts";
import { SpaceAccount } from "../../shared/SpaceAccount";
import { formatHours } from "../../shared/units";
import type { Asked } from "./Compare";
import { nameOf } from "./Compare";

export function Chosen({ layout, asked }: { layout: Schema["LayoutOut"]; asked: Asked }) {
  const [failed, setFailed] = useState<ReadonlySet<string>>(new Set());
  const may = useMay("build-pools");
  const go = useNavigate();
  const body = {
    ...asked,
    scheme: layout.scheme,
    sets: layout.sets.length,
    spares: layout.spares.length,
    failed: [...failed],
    volume_size: "",
  };
  const cut = useQuery({
    queryKey: ["cut", body],
    queryFn: () => ask(api.POST("/api/compare/cut", { body })),
    placeholderData: keepPreviousData,
  });
  const places = useQuery({
    queryKey: ["drives", "chosen", asked.drive_ids?.join(",")],
    queryFn: () =>
      ask(api.GET("/api/drives/by-id", { params: { query: { ids: asked.drive_ids?.join(",") ?? "" } } })),
    enabled: Boolean(asked.drive_ids),
  });
  const byId = new Map(places.data?.drives.map((d) => [String(d.id), d]));
  const oneShelf = new Set(places.data?.drives.map((d) => d.shelf)).size === 1;
  const label = (id: string) => {
    const drive = byId.get(id);
    return drive ? `${oneShelf ? "" : `${drive.shelf?.slice(0, 4)} `}${drive.bay}` : id;
  };
  const toggle = (id: string) =>
    setFailed((before) => {
      const after = new Set(before);
      if (!after.delete(id)) after.add(id);
      return after;
    });
  const order = [...layout.sets.flat(), ...layout.spares].join(",");
  const build = `/build?${new URLSearchParams({ scheme: layout.scheme, sets: String(layout.sets.length), spares: String(layout.spares.length), drives: order, fs: asked.file_system })}`;
  const whyNot = asked.drive_ids
    ? (places.data?.drives.find((d) => d.not_offered)?.not_offered ?? may.why)
    : "These drives are a what-if; choose real ones on the shelves to build.";
  return (
    <section
      style={{ marginTop: "1rem", display: "flex", gap: "1rem", flexWrap: "wrap", alignItems: "stretch" }}
      aria-label="The chosen layout"
    >
      <div className="paper" style={{ flex: "2 1 460px", minWidth: 0 }}>
        <h2>{nameOf(layout)}</h2>
        <Text size="sm" c="dimmed" mb="xs">
          Click a drive to say: this one fails.
        </Text>
        {cut.isError && <Trouble error={cut.error} />}
        {cut.data ? (
          <>
            <Cut
              cut={cut.data.cut}
              label={label}
              failed={failed}
              onFail={toggle}
              title={(id) =>
                byId.get(id) ? `${byId.get(id)?.shelf} bay ${byId.get(id)?.bay}` : `Drive ${id}`
              }
            />
            <p
              aria-live="polite"
              style={{
                margin: "0.8rem 0 0",
                fontWeight: 600,
                color: cut.data.after.survives ? "var(--pine)" : "var(--rust)",
              }}
            >
              {failed.size ? cut.data.after.sentence : standing(layout)}
              {failed.size > 0 && (
                <Button variant="subtle" size="compact-sm" ml="sm" onClick={() => setFailed(new Set())}>
                  All well again
                </Button>
              )}
            </p>
          </>
        ) : (
          <Waiting height={260} />
        )}
      </div>
      <div className="paper" style={{ flex: "1 1 360px", minWidth: 0 }}>
        <h2 style={{ marginBottom: "0.5rem" }}>Where every byte goes</h2>
        <SpaceAccount space={layout.space} />
        <p style={{ margin: "0.8rem 0" }}>
          {layout.first_sync_hours !== null && layout.rebuild_hours !== null ? (
            <>
              <Term word="first sync">First sync</Term> {formatHours(layout.first_sync_hours)},{" "}
              <Term word="rebuild">rebuild</Term> of one drive {formatHours(layout.rebuild_hours)}, if nobody
              uses the pool.
            </>
          ) : (
            "Without redundancy there is nothing to bring in step, and nothing to rebuild from."
          )}
        </p>
        {layout.spare_too_small_for.map((gap) => (
          <p key={gap.spare} className="rust" style={{ margin: "0 0 0.6rem" }}>
            Spare {label(gap.spare)} is too small to replace {gap.members.length} of the members.
          </p>
        ))}
        {whyNot && (
          <Text size="sm" c="dimmed" mb={6}>
            {whyNot}
          </Text>
        )}
        <Act why={whyNot} onClick={() => go(build)}>
          Build this…
        </Act>
      </div>
    </section>
  );
}

function standing(layout: Schema["LayoutOut"]): string {
  const { guaranteed, best_case } = layout.survives;
  if (best_case === 0) return "Any failed drive loses the data.";
  const sure = `Any ${guaranteed === 1 ? "one drive" : `${guaranteed} drives`} may fail`;
  return best_case > guaranteed ? `${sure}, up to ${best_case} in the right sets.` : `${sure}.`;
}
