/** Choosing the drive that takes a place; ends in a change sheet. */

import { Button, Checkbox, Modal, Text } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask, type Schema, server } from "../../api/client";
import { Trouble, Waiting } from "../../shared/parts";
import { useDrawUp } from "../../shared/SheetForm";
import { Size } from "../../shared/units";

export function Replace({ poolId, slot, onClose }: { poolId: number; slot: number; onClose: () => void }) {
  const found = server.useQuery(
    "get",
    "/api/pools/{pool_id}/replacements",
    {
      params: { path: { pool_id: poolId }, query: { slot } },
    },
    { refetchInterval: 2000 },
  );
  const draw = useDrawUp("replace-drive");
  const takeIn = useMutation({
    mutationFn: (id: number) => ask(api.POST("/api/drives/take-in", { body: { ids: [id] } })),
  });
  const choose = async (c: Schema["ReplacementOut"]) => {
    if (c.new) await takeIn.mutateAsync(c.drive_id);
    draw.mutate({
      pool_id: poolId,
      slot,
      drive_id: c.drive_id,
      stands_by: standsBy,
    } satisfies Schema["ReplaceDriveBody"]);
  };
  const chosen = (draw.variables as Schema["ReplaceDriveBody"] | undefined)?.drive_id;
  const [standsBy, setStandsBy] = useState(false);
  const fit = found.data?.candidates.filter((c) => !c.reason) ?? [];
  const others = found.data?.candidates.filter((c) => c.reason) ?? [];
  return (
    <Modal opened onClose={onClose} title="Which drive takes the place?" size="lg" centered>
      {found.isPending && <Waiting />}
      <Trouble error={found.error ?? takeIn.error ?? draw.error} />
      {found.data && (
        <>
          {found.data.may_stand_by && (
            <Checkbox
              mb="sm"
              checked={standsBy}
              onChange={(event) => setStandsBy(event.currentTarget.checked)}
              label="The drive that leaves stands by as a spare"
            />
          )}
          {fit.length === 0 ? (
            <p style={{ marginTop: 0 }}>
              No free drive is large enough: the place needs at least <Size bytes={found.data.needs} />. Put
              one into an empty bay on the <Link to="/shelves">shelves</Link> and take it in; it appears here
              by itself.
            </p>
          ) : (
            <table className="plain">
              <tbody>
                {fit.map((c) => (
                  <tr key={c.drive_id}>
                    <Facts c={c} />
                    <td className="num">
                      <Button
                        size="compact-sm"
                        loading={draw.isPending && chosen === c.drive_id}
                        onClick={() => choose(c)}
                      >
                        {c.new ? "Accept it and draw up the sheet" : "Draw up the sheet"}
                      </Button>
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          {others.length > 0 && (
            <details style={{ marginTop: "0.8rem" }}>
              <summary style={{ cursor: "pointer" }}>{others.length} others, and why not</summary>
              <table className="plain">
                <tbody>
                  {others.map((c) => (
                    <tr key={c.drive_id}>
                      <Facts c={c} />
                      <td className="faint">{c.reason}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </details>
          )}
        </>
      )}
    </Modal>
  );
}

function Facts({ c }: { c: Schema["ReplacementOut"] }) {
  return (
    <>
      <td>
        {c.place} · {c.serial}
        {c.spare && <span> · stands by as a spare</span>}
        {c.warns && <span className="rust"> · failing by its readings</span>}
        <Text size="sm" c={c.holds ? "var(--rust)" : "dimmed"}>
          {c.holds ? `holds ${c.holds}` : c.maker_model}
        </Text>
      </td>
      <td className="num">
        <Size bytes={c.size} digits={1} />
      </td>
    </>
  );
}
