/** Pools that drives here say they belong to and that are not in the books: what is here of them, and bringing them in. */
import { Button, Group, Text, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Schema, server } from "../../api/client";
import { useMay, useMayDo } from "../../shared/me";
import { Act, Trouble } from "../../shared/parts";
import { useDrawUp } from "../../shared/SheetForm";
import { spinePath } from "../../shared/spine";
import { formatSize, formatWhen, shortSize, useUnits } from "../../shared/units";

type Found = Schema["FoundPoolOut"];
type Member = Schema["FoundMemberOut"];

export function FoundPools() {
  const found = server.useQuery("get", "/api/found-pools");
  if (found.isLoadingError) return <Trouble error={found.error} />;
  return (
    <>
      {found.data?.pools.map((pool) => (
        <One key={pool.uid} pool={pool} />
      ))}
    </>
  );
}

/** Reads every drive that belongs to nothing; drives that came by a list have not been. */
export function LookForPools() {
  const client = useQueryClient();
  const may = useMay("manage-drives");
  const look = useMutation({
    mutationFn: () => ask(api.POST("/api/found-pools")),
    onSuccess: () => client.invalidateQueries(),
  });
  return (
    <span className="no-print" style={{ display: "inline-flex", gap: "0.7rem", alignItems: "baseline" }}>
      {look.isSuccess && (
        <Text size="sm" c="dimmed" role="status">
          {look.data.pools.length === 0
            ? "No drive speaks of a pool that is not here."
            : look.data.pools.length === 1
              ? "One pool was found."
              : `${look.data.pools.length} pools were found.`}
        </Text>
      )}
      <Act variant="default" why={may.why} loading={look.isPending} onClick={() => look.mutate()}>
        Look for pools on the drives
      </Act>
      {look.isError && <Trouble error={look.error} />}
    </span>
  );
}

function One({ pool }: { pool: Found }) {
  const { system } = useUnits();
  const [name, setName] = useState("");
  const may = useMayDo("bring-in");
  const draw = useDrawUp("bring-in");
  const files = pool.volumes.reduce((sum, v) => sum + v.files, 0);
  return (
    <section
      className="paper"
      aria-label={`Found on drives: ${pool.name}`}
      style={{ marginBottom: "1rem", borderStyle: "dashed" }}
    >
      <Group justify="space-between" align="baseline" gap="xs">
        <h2>{pool.name || "A pool"}, found on drives</h2>
        {pool.written_at && (
          <Text size="sm" c="dimmed">
            as of {formatWhen(pool.written_at)}
            {pool.ours ? "" : ", written by another installation"}
          </Text>
        )}
      </Group>
      <p className={pool.may ? undefined : "rust"} style={{ margin: "0.3rem 0", fontSize: "1.06rem" }}>
        {pool.said}
      </p>
      {pool.scheme && (
        <p style={{ margin: "0.2rem 0" }}>
          {pool.scheme}
          {pool.capacity !== null && `, ${formatSize(pool.capacity, system)}`}
          {pool.encrypted && ", encrypted: it comes locked, its passphrase opens it"}
          {pool.volumes.length > 0 &&
            `. On it ${pool.volumes.map((v) => `${v.name} (${formatSize(v.size, system)})`).join(", ")}, with ${files.toLocaleString("en")} file${files === 1 ? "" : "s"}`}
          {pool.hanging.length > 0 && `; and ${pool.hanging.join(", ")}`}.
        </p>
      )}
      {pool.members.length > 0 && (
        <div className="picks" style={{ marginTop: "0.4rem" }}>
          {pool.members.map((m) => (
            <MemberSpine key={m.serial} member={m} largest={Math.max(...pool.members.map((o) => o.size))} />
          ))}
        </div>
      )}
      {pool.left_over.length > 0 && (
        <Text size="sm" c="dimmed" mt={6}>
          {pool.left_over.map((d) => `${d.serial} (${d.place})`).join(", ")}{" "}
          {pool.left_over.length === 1 ? "bears" : "bear"} its label
          {pool.members.length > 0 &&
            ` and ${pool.left_over.length === 1 ? "has" : "have"} no place in it: left as ${pool.left_over.length === 1 ? "it is" : "they are"}`}
          .
        </Text>
      )}
      {pool.may && (
        <Group align="flex-end" mt="sm" className="no-print">
          <TextInput
            label={pool.name_taken ? "Its name here" : "Its name here, if another"}
            description={pool.name_taken ? `There is a pool ${pool.name} already.` : undefined}
            placeholder={pool.name_taken ? `${pool.name}-2` : pool.name}
            value={name}
            onChange={(e) => setName(e.currentTarget.value)}
            w={230}
            size="sm"
          />
          <Act
            why={may.why}
            loading={draw.isPending}
            onClick={() => draw.mutate({ pool: pool.uid, name: name.trim() })}
          >
            Bring it in…
          </Act>
          {draw.isError && <Trouble error={draw.error} />}
        </Group>
      )}
    </section>
  );
}

const SAID: Record<string, string> = {
  current: "up to date",
  behind: "lacks some",
  older: "older",
  damaged: "unreadable",
  away: "not here",
};

/** A member: whole where it has the newest record, hatched where it has to be filled, an outline where it is not here. */
function MemberSpine({ member, largest }: { member: Member; largest: number }) {
  const { system } = useUnits();
  const tall = Math.round(44 + 44 * (member.size / largest));
  const away = member.standing === "away";
  const { whole } = member;
  const word =
    member.slot === null
      ? "spare"
      : whole
        ? SAID.current
        : member.standing === "current"
          ? "to fill"
          : SAID[member.standing];
  const where = /^(.*) bay (\d+)$/.exec(member.place);
  const foot = where
    ? `${where[1].length > 10 ? `${where[1].slice(0, 9)}.` : where[1]} ${where[2]}`
    : member.serial;
  const lacking = member.missed ? ` (${formatSize(member.missed, system)} at most)` : "";
  const about = `${member.serial}, ${away ? "" : `${member.place}, `}${word}${lacking}`;
  return (
    <svg width="74" height="136" role="img" aria-label={about}>
      <title>{about}</title>
      <g transform={`translate(20 ${92 - tall})`}>
        {!away && (
          <path
            d={spinePath("hdd", tall)}
            fill={whole ? "var(--board)" : "url(#hatch)"}
            opacity={whole ? 0.6 : 1}
          />
        )}
        <path
          d={spinePath("hdd", tall)}
          fill="none"
          stroke={away || whole ? "var(--ink)" : "var(--rust)"}
          strokeDasharray={away ? "1.5 3" : undefined}
        />
        <text transform={`translate(21.5 ${tall - 19}) rotate(-90)`} fontSize="12" fill="var(--ink)">
          {shortSize(member.size, system)}
        </text>
      </g>
      <text x="37" y="116" fontSize="11" textAnchor="middle" fill="var(--ink)">
        {foot.length > 13 ? `${foot.slice(0, 12)}.` : foot}
      </text>
      <text
        x="37"
        y="130"
        fontSize="10.5"
        textAnchor="middle"
        fill={whole || away ? "var(--faint)" : "var(--rust)"}
      >
        {word}
      </text>
    </svg>
  );
}

/** What a drive that belongs to nothing here says of itself. */
export function SaysItBelongs({ serial }: { serial: string }) {
  const found = server.useQuery("get", "/api/found-pools");
  const pool = found.data?.pools.find(
    (p) => p.members.some((m) => m.serial === serial) || p.left_over.some((d) => d.serial === serial),
  );
  if (!pool) return null;
  return (
    <div style={{ margin: "0 0 0.8rem" }}>
      <p style={{ margin: "0 0 0.4rem" }}>
        It says it belongs to pool {pool.name}, which is not in the books. {pool.said}
      </p>
      <Button component="a" href="/pools" size="xs" variant="default">
        See what was found
      </Button>
    </div>
  );
}
