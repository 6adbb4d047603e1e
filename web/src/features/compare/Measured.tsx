/** Layouts run against one another on the very same simulated drives: what was measured, beside what the figures say. */
import { Button, Select, Text } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { memo, useState } from "react";
import { api, ask, type Schema, server } from "../../api/client";
import { Trouble } from "../../shared/parts";
import { formatCount, formatHours, formatResponse, formatSize, useUnits } from "../../shared/units";
import { type Body, nameOf } from "./useQuestion";

type Found = Schema["MeasuredCompareOut"];

export const Measured = memo(function Measured({
  body,
  keys,
  found,
}: {
  body: Body;
  /** What is looked at and pinned; these, and the first few beside them, are measured. */
  keys: string[];
  found: Schema["CompareOut"];
}) {
  const mixes = server.useQuery("get", "/api/mixes", {}, { staleTime: Number.POSITIVE_INFINITY });
  const [mix, setMix] = useState("");
  const first = found.layouts.map((l) => l.key);
  const chosen = [...new Set([...keys, ...first])].filter((k) => first.includes(k)).slice(0, 5);
  const asked = JSON.stringify([body, chosen, mix]);
  const run = useMutation({
    mutationFn: async () => ({
      asked,
      told: await ask(api.POST("/api/compare/measured", { body: { ...body, keys: chosen, mix } })),
    }),
  });
  const told = run.data?.asked === asked ? run.data.told : null;
  return (
    <section className="paper" aria-label="Measured" style={{ marginTop: "1rem" }}>
      <h2>Measured, not reckoned</h2>
      <p style={{ margin: "0.2rem 0 0.6rem" }}>
        The layout you look at, those that are pinned, and the first few: each is laid on the same simulated
        drives and used, whole, with a drive gone, and while that one is filled anew.
      </p>
      <div
        style={{ display: "flex", gap: "0.6rem", alignItems: "flex-end", flexWrap: "wrap" }}
        className="no-print"
      >
        <Select
          label="What users ask for"
          size="xs"
          w={190}
          value={mix}
          onChange={(value) => setMix(value ?? "")}
          allowDeselect={false}
          data={[
            { value: "", label: "what the use brings" },
            ...(mixes.data?.mixes ?? []).map((m) => ({ value: m.id, label: m.name })),
          ]}
        />
        <Button size="xs" loading={run.isPending} onClick={() => run.mutate()}>
          Measure {chosen.length === 1 ? "it" : `these ${chosen.length}`}
        </Button>
        {run.data && !told && !run.isPending && (
          <Text size="sm" c="dimmed">
            The question has changed since it was measured.
          </Text>
        )}
      </div>
      <Trouble error={run.error} />
      {told && <Table told={told} found={found} />}
    </section>
  );
});

function Table({ told, found }: { told: Found; found: Schema["CompareOut"] }) {
  const { system } = useUnits();
  const long = told.mix.parts.filter((p) => p.along).reduce((sum, p) => sum + p.share, 0) > 0.5;
  const much = (r: { operations: number; throughput: number } | null) =>
    r === null ? "–" : long ? `${formatSize(r.throughput, system)}/s` : `${formatCount(r.operations)}/s`;
  const most = Math.max(...told.layouts.map((l) => (long ? l.whole.throughput : l.whole.operations)), 1);
  return (
    <div role="status">
      <Text size="sm" c="dimmed" mt="sm">
        As a {told.mix.name}, {told.mix.at_once} requests at once. {told.mix.about}
      </Text>
      <div className="scroll-x" tabIndex={0}>
        <table className="plain">
          <thead>
            <tr>
              <th>layout</th>
              <th className="num">{long ? "moved" : "requests"}</th>
              <th aria-label="drawn" />
              <th className="num">figures say</th>
              <th className="num">half within</th>
              <th className="num">95 % within</th>
              <th className="num">a drive gone</th>
              <th className="num">filled anew, in use</th>
              <th className="num">figures say</th>
            </tr>
          </thead>
          <tbody>
            {told.layouts.map((l) => (
              <tr key={l.key}>
                <td style={{ minWidth: "9.5rem" }}>
                  {nameOf(found.layouts.find((one) => one.key === l.key)) || l.name}
                </td>
                <td className="num">
                  <strong>{much(l.whole)}</strong>
                </td>
                <td style={{ width: 90 }}>
                  <svg width="84" height="12" aria-hidden="true" style={{ display: "block" }}>
                    <rect
                      y="2"
                      width={(84 * (long ? l.whole.throughput : l.whole.operations)) / most}
                      height="8"
                      fill="var(--pine)"
                    />
                  </svg>
                </td>
                <td className="num faint">{much(l.estimate)}</td>
                <td className="num">{formatResponse(l.whole.median)}</td>
                <td className="num">{formatResponse(l.whole.slow)}</td>
                <td className="num">{much(l.degraded)}</td>
                <td className="num">{l.rebuild_hours === null ? "–" : formatHours(l.rebuild_hours)}</td>
                <td className="num faint">
                  {l.rebuild_estimate === null ? "–" : formatHours(l.rebuild_estimate)}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <Text size="sm" c="dimmed" mt={6}>
        The figures leave out that requests wait for one another, and that drives go to and fro between users
        and a rebuild: so what is measured is a little less, and a rebuild in use takes longer. In very narrow
        sets it can be more: there, a small write reads less than they take it to.
      </Text>
    </div>
  );
}
