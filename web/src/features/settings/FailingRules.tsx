/** By which rules a drive counts as failing, or gives warning: for each kind of drive its own limits. */
import { NumberInput, Text } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Schema, server } from "../../api/client";
import { about } from "../../api/keys";
import { useMay } from "../../shared/me";
import { Act, Tick, Trouble } from "../../shared/parts";

type Rule = Schema["RuleOut"];
const NAMED: Record<string, string> = { hdd: "rotating", ssd: "flash", nvme: "flash on PCIe" };

export function FailingRules() {
  const found = server.useQuery("get", "/api/failing-rules");
  const kinds = found.data?.kinds ?? [];
  const rules = new Map(kinds.flatMap((k) => k.rules).map((r) => [r.id, r]));
  return (
    <section className="paper" aria-label="When a drive counts as failing" id="failing">
      <h2>When a drive counts as failing</h2>
      <Text size="sm" mt={4}>
        Each rule is held against what drives report every ten seconds. What was never reported is unknown,
        never good. A rule that is not ticked is not looked at.
      </Text>
      <Trouble error={found.error} />
      <div className="scroll-x" tabIndex={0}>
        <table className="plain rules" style={{ marginTop: "0.5rem" }}>
          <thead>
            <tr>
              <th>Rule</th>
              {kinds.map((k) => (
                <th key={k.kind} className="num">
                  {NAMED[k.kind]}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {[...rules.values()].map((rule) => (
              <tr key={rule.id}>
                <td>
                  {rule.label}
                  <Text size="sm" c="dimmed">
                    {rule.unit ? `${rule.beyond} the limit: ` : "then "}
                    {rule.level === "failing" ? "failing" : "a warning"}
                  </Text>
                </td>
                {kinds.map((k) => {
                  const own = k.rules.find((r) => r.id === rule.id);
                  return (
                    <td key={k.kind} className="num">
                      {own ? <Limit kind={k.kind} rule={own} /> : <span className="faint">–</span>}
                    </td>
                  );
                })}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}

function Limit({ kind, rule }: { kind: string; rule: Rule }) {
  const client = useQueryClient();
  const may = useMay("manage-drives");
  const [typed, setTyped] = useState<number | string | null>(null);
  const keep = useMutation({
    mutationFn: (limit: number | null) =>
      ask(api.PUT("/api/failing-rules", { body: { kind, rule: rule.id, limit } })),
    onSuccess: () => setTyped(null),
    onSettled: () => client.invalidateQueries(about("/api/failing-rules", "/api/drives/{drive_id}/readings")),
  });
  const off = rule.limit === null;
  const changed = typed !== null && typed !== "" && Number(typed) !== rule.limit;
  return (
    <div style={{ display: "flex", gap: 4, alignItems: "center", justifyContent: "flex-end" }}>
      {!off && rule.unit && (
        <NumberInput
          size="xs"
          w={96}
          aria-label={`${rule.label}, ${NAMED[kind]}`}
          value={typed ?? rule.limit ?? 0}
          onChange={setTyped}
          min={0}
          allowDecimal={false}
          suffix={rule.unit === "count" ? "" : ` ${rule.unit}`}
          disabled={!may.may}
          styles={{ input: { textAlign: "right" } }}
          error={keep.isError}
        />
      )}
      {changed && (
        <Act
          why={may.why}
          size="compact-xs"
          loading={keep.isPending}
          onClick={() => keep.mutate(Number(typed))}
        >
          Keep
        </Act>
      )}
      <Tick
        aria-label={`Look at: ${rule.label}, ${NAMED[kind]}`}
        checked={!off}
        failed={keep.isError}
        disabled={!may.may}
        onTick={(on) => keep.mutate(on ? rule.usual : null)}
      />
    </div>
  );
}
