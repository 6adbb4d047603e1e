/** The locate LED of a drive's bay, switched on and off: for any drive that is in a bay. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "../api/client";
import { useMay } from "./me";
import { Act, Trouble } from "./parts";

export function Lamp({ drive, lit, size = "xs" }: { drive: number; lit: boolean; size?: "xs" | "sm" }) {
  const client = useQueryClient();
  const may = useMay("manage-drives");
  const light = useMutation({
    mutationFn: (on: boolean) =>
      ask(api.PUT("/api/drives/{drive_id}/lamp", { params: { path: { drive_id: drive } }, body: { on } })),
    onSettled: () => client.invalidateQueries(),
  });
  return (
    <>
      <Act
        size={size}
        variant={lit ? "filled" : "default"}
        why={may.why}
        loading={light.isPending}
        onClick={() => light.mutate(!lit)}
      >
        {lit ? "Stop locate LED" : "Blink locate LED"}
      </Act>
      {light.isError && <Trouble error={light.error} />}
    </>
  );
}
