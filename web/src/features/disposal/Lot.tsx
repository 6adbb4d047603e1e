/** A lot that is being wiped, or was: each spine turns blank from the top. */
import { Button, Text } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask, type Schema } from "../../api/client";
import { EVERYTHING } from "../../api/keys";
import { JobLine } from "../../shared/JobLine";
import { useMay } from "../../shared/me";
import { Act, Trouble } from "../../shared/parts";
import { spinePath } from "../../shared/spine";
import { formatHours, shortSize, useUnits } from "../../shared/units";

type LotData = Schema["LotOut"];
type Wipe = Schema["WipeOut"];

export function Lot({ lot }: { lot: LotData }) {
  const open = lot.drives.some((d) => d.state === "open");
  const proven = lot.drives.filter((d) => d.certificate !== null);
  const spoilt = lot.drives.filter((d) => d.state === "partly" || d.state === "not");
  const many = lot.drives.length;
  return (
    <section
      className="paper"
      aria-label={open ? "Being wiped" : "A lot that was wiped"}
      style={{ marginBottom: "1rem" }}
    >
      <h2>{open ? `Being wiped: ${many} drive${many > 1 ? "s" : ""}` : summary(lot)}</h2>
      {open && lot.job && <JobLine job={lot.job} plain />}
      <div className="picks" style={{ marginTop: "0.5rem" }}>
        {lot.drives.map((d) => (
          <Blanking key={d.id} wipe={d} largest={Math.max(...lot.drives.map((x) => x.size))} />
        ))}
      </div>
      {lot.drives
        .filter((d) => d.held && d.state === "open")
        .map((d) => (
          <Text key={d.id} size="sm" c="dimmed">
            {d.serial}: {d.held}.
          </Text>
        ))}
      {spoilt.map((d) => (
        <p key={d.id} className="rust" style={{ margin: "0.2rem 0" }}>
          {d.serial} ({d.place}) is{" "}
          {d.state === "partly" ? `only partly wiped, ${Math.floor(d.erased * 100)} % of it` : "not wiped"}:{" "}
          {d.found}. Wipe it again if it answers, or have it destroyed.
        </p>
      ))}
      <div
        style={{
          display: "flex",
          gap: "0.5rem 1rem",
          flexWrap: "wrap",
          marginTop: "0.5rem",
          alignItems: "center",
        }}
        className="no-print"
      >
        {open && lot.job && <Stop job={lot.job.id} />}
        {proven.length > 0 && lot.sheet_id !== null && (
          <a href={`/api/disposal/lots/${lot.sheet_id}/cards`}>All cards (PDF)</a>
        )}
        {!open && proven.length > 0 && lot.sheet_id !== null && (
          <a href={`/api/disposal/lots/${lot.sheet_id}/file`}>Signed file of the lot</a>
        )}
        {lot.sheet_id !== null && <Link to={`/changes/${lot.sheet_id}`}>The sheet</Link>}
        <Text size="sm" c="dimmed">
          asked by {lot.asked_by}, approved by {lot.approved_by}
          {lot.destination && ` · goes to: ${lot.destination}`}
        </Text>
      </div>
    </section>
  );
}

function summary(lot: LotData): string {
  const wiped = lot.drives.filter((d) => d.state === "wiped").length;
  return `${wiped} of ${lot.drives.length} wiped and verified`;
}

/** One drive: blank as far as it is erased, a tick line as far as it is read back. */
function Blanking({ wipe, largest }: { wipe: Wipe; largest: number }) {
  const { system } = useUnits();
  const tall = Math.round(40 + 60 * (wipe.size / largest));
  const wide = 112;
  const blank = wipe.state === "wiped" ? 1 : wipe.erased;
  const id = `blank-${wipe.id}`;
  const word =
    wipe.state === "open"
      ? wipe.erased < 1
        ? `${Math.floor(wipe.erased * 100)} % blank`
        : `read back ${Math.floor(wipe.read_back * 100)} %`
      : wipe.state === "wiped"
        ? "wiped"
        : wipe.state === "partly"
          ? "partly wiped"
          : "not wiped";
  return (
    <svg width={wide} height={168} role="img" aria-label={`${wipe.place}, ${wipe.serial}: ${word}`}>
      <defs>
        <clipPath id={id}>
          <path d={spinePath(wipe.kind, tall)} />
        </clipPath>
      </defs>
      <g transform={`translate(39 ${104 - tall})`}>
        <path d={spinePath(wipe.kind, tall)} fill="var(--spine)" />
        <g clipPath={`url(#${id})`}>
          {[...Array(Math.ceil(tall / 5)).keys()].map((i) => (
            <path key={i} d={`M5 ${i * 5 + 3}h${i % 3 === 1 ? 17 : 24}`} stroke="var(--ink)" opacity="0.45" />
          ))}
          <rect width="34" height={tall * blank} fill="var(--sheet)" />
          {wipe.state === "open" && blank > 0 && blank < 1 && (
            <path d={`M0 ${tall * blank}h34`} stroke="var(--pine)" strokeWidth="2" />
          )}
        </g>
        <path
          d={spinePath(wipe.kind, tall)}
          fill="none"
          stroke={wipe.state === "partly" || wipe.state === "not" ? "var(--rust)" : "var(--ink)"}
        />
        {wipe.read_back > 0 && (
          <path d={`M39 0v${tall * wipe.read_back}`} stroke="var(--pine)" strokeWidth="2.5" />
        )}
        {wipe.state === "wiped" && (
          <text transform={`translate(21.5 ${tall / 2 + 18}) rotate(-90)`} fontSize="12" fill="var(--pine)">
            {shortSize(wipe.size, system)}
          </text>
        )}
      </g>
      <text x={wide / 2} y="121" fontSize="11" textAnchor="middle" fill="var(--ink)">
        {wipe.serial.length > 13 ? `${wipe.serial.slice(0, 12)}.` : wipe.serial}
      </text>
      <text
        x={wide / 2}
        y="136"
        fontSize="11"
        textAnchor="middle"
        fill={wipe.state === "partly" || wipe.state === "not" ? "var(--rust)" : "var(--pine)"}
      >
        {word}
      </text>
      {wipe.seconds_left !== null && (
        <text x={wide / 2} y="151" fontSize="10.5" textAnchor="middle" fill="var(--faint)">
          {wipe.rate ? `${shortSize(wipe.rate, system)}/s, ` : ""}
          {formatHours(wipe.seconds_left / 3600)}
        </text>
      )}
      {wipe.certificate !== null && (
        <text x={wide / 2} y="151" fontSize="10.5" textAnchor="middle" fill="var(--faint)">
          certificate {wipe.certificate}
        </text>
      )}
    </svg>
  );
}

/** Ending a lot leaves drives that are neither free of data nor intact: asked twice. */
function Stop({ job }: { job: number }) {
  const client = useQueryClient();
  const may = useMay("wipe-drives");
  const [sure, setSure] = useState(false);
  const stop = useMutation({
    mutationFn: () =>
      ask(api.POST("/api/disposal/lots/{job_id}/stop", { params: { path: { job_id: job } } })),
    onSettled: () => client.invalidateQueries(EVERYTHING),
  });
  if (!sure)
    return (
      <Act why={may.why} variant="default" onClick={() => setSure(true)}>
        Stop the lot…
      </Act>
    );
  return (
    <>
      <span className="rust">What is not wiped by now stays partly wiped.</span>
      <Button color="rust" loading={stop.isPending} onClick={() => stop.mutate()}>
        Stop it
      </Button>
      <Button variant="default" onClick={() => setSure(false)}>
        Let it go on
      </Button>
      <Trouble error={stop.error} />
    </>
  );
}
