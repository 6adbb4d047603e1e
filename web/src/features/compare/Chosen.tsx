/** The layout that is looked at: its cut, what failures would leave, its figures, reasons, doors and growth. */

import { Button, Text } from "@mantine/core";
import { keepPreviousData } from "@tanstack/react-query";
import { memo, useState } from "react";
import { useNavigate } from "react-router";
import { type Schema, server } from "../../api/client";
import { Cut } from "../../shared/Cut";
import { download } from "../../shared/download";
import { keyed } from "../../shared/keyed";
import { useMay } from "../../shared/me";
import { Act, Term, Trouble, Waiting } from "../../shared/parts";
import { shortPlace } from "../../shared/places";
import { SpaceAccount } from "../../shared/SpaceAccount";
import { sentence, survivesAny } from "../../shared/survives";
import { formatMoney } from "../../shared/units";
import { Curve } from "./Curve";
import { FigureValue, Meaning, useFigures } from "./figures";
import { Growth } from "./Growth";
import { type Body, backupIn, besides, chosenBody, type Layout, nameOf } from "./useQuestion";

type Fails = "failed" | "failed_shelves" | "failed_hosts";
type Failed = Record<Fails, ReadonlySet<string>>;
const NOTHING: Failed = { failed: new Set(), failed_shelves: new Set(), failed_hosts: new Set() };

export const Chosen = memo(function Chosen({ layout, body }: { layout: Layout; body: Body }) {
  const [failed, setFailed] = useState<Failed>(NOTHING);
  const asked = {
    ...chosenBody(body, layout),
    failed: [...failed.failed],
    failed_shelves: [...failed.failed_shelves],
    failed_hosts: [...failed.failed_hosts],
  };
  const cut = server.useQuery(
    "post",
    "/api/compare/cut",
    { body: asked },
    { placeholderData: keepPreviousData },
  );
  const toggle = (what: Fails, id: string) =>
    setFailed((before) => {
      const after = new Set(before[what]);
      if (!after.delete(id)) after.add(id);
      return { ...before, [what]: after };
    });
  const gone = new Set(
    cut.data?.cut.members
      .filter(
        (m) =>
          failed.failed.has(m.id) ||
          failed.failed_shelves.has(m.shelf ?? "\0") ||
          failed.failed_hosts.has(m.host ?? "\0"),
      )
      .map((m) => m.id),
  );
  const members = new Map(cut.data?.cut.members.map((m) => [m.id, m]));
  const label = (id: string) => shortPlace(cut.data?.labels[id] ?? id);
  const title = (id: string) => {
    const shelf = members.get(id)?.shelf;
    const name = cut.data?.labels[id] ?? id;
    if (body.shorthand != null) return `Drive ${id}${shelf ? ` on ${shelf}` : ""}`;
    return shelf ? `${shelf} bay ${name.split(" ").pop()}` : name;
  };
  const any = gone.size > 0;
  return (
    <section className="chosen" aria-label="The chosen layout">
      <div className="paper" style={{ gridColumn: "1 / -1" }}>
        <div style={{ display: "flex", gap: "0.4rem 1rem", flexWrap: "wrap", alignItems: "baseline" }}>
          <h2>{nameOf(layout)}</h2>
          {besides(layout) && <span className="faint">{besides(layout)}</span>}
          <span style={{ marginLeft: "auto" }} />
          <BuildThis layout={layout} body={body} />
          <Button
            variant="default"
            size="xs"
            className="no-print"
            onClick={() => download("/api/compare/export/svg", asked, "cut.svg")}
          >
            The cut as SVG
          </Button>
        </div>
        <Text size="sm" c="dimmed" mb="xs" className="no-print">
          Click a drive to say: this one fails.
        </Text>
        {cut.isLoadingError && <Trouble error={cut.error} />}
        {cut.data ? (
          <>
            <Cut
              cut={cut.data.cut}
              label={label}
              failed={gone}
              onFail={(id) => toggle("failed", id)}
              title={title}
            />
            <Domains domains={cut.data.domains} failed={failed} onToggle={toggle} />
            <p aria-live="polite" className={cut.data.after.survives ? "verdict pine" : "verdict rust"}>
              {any ? cut.data.after.sentence : standing(layout)}
              {any && (
                <Button variant="subtle" size="compact-sm" ml="sm" onClick={() => setFailed(NOTHING)}>
                  All well again
                </Button>
              )}
            </p>
          </>
        ) : (
          <Waiting height={260} />
        )}
      </div>
      <Figures layout={layout} body={body} />
      <div className="paper">
        <h2 style={{ marginBottom: "0.5rem" }}>Where every byte goes</h2>
        <SpaceAccount space={layout.space} />
        <h3 style={{ marginTop: "1rem" }}>
          <Term word="survival curve">Survival curve</Term>
        </h3>
        <Curve curve={layout.survives.curve} />
      </div>
      <Reasons layout={layout} />
      {cut.data && <Doors doors={cut.data.doors} fixed={cut.data.fixed} />}
      <Growth layout={layout} body={body} />
    </section>
  );
});

function BuildThis({ layout, body }: { layout: Layout; body: Body }) {
  const may = useMay("build-pools");
  const go = useNavigate();
  const places = server.useQuery(
    "get",
    "/api/drives/by-id",
    { params: { query: { ids: body.drive_ids?.join(",") ?? "" } } },
    { enabled: Boolean(body.drive_ids?.length) },
  );
  const used = new Set([...layout.sets.flat(), ...layout.spares]);
  const kept = places.data?.drives.find((d) => used.has(String(d.id)) && d.not_offered)?.not_offered;
  const whyNot = body.drive_ids
    ? (kept ?? may.why)
    : "These drives are a what-if; choose real ones on the shelves to build.";
  const order = [...layout.sets.flat(), ...layout.spares].join(",");
  const address = new URLSearchParams({
    scheme: layout.scheme,
    sets: String(layout.sets.length),
    spares: String(layout.spares.length),
    drives: order,
    fs: body.file_system ?? "ext4",
    ...backupIn(body),
  });
  return (
    <>
      {whyNot && (
        <Text size="sm" c="dimmed" className="no-print">
          {whyNot}
        </Text>
      )}
      <Act className="no-print" size="xs" why={whyNot} onClick={() => go(`/build?${address}`)}>
        Build this…
      </Act>
    </>
  );
}

const UNIT_WORD: Record<string, { one: string; key: Fails | null }> = {
  shelf: { one: "shelf", key: "failed_shelves" },
  host: { one: "host", key: "failed_hosts" },
  site: { one: "site", key: null },
};

function Domains({
  domains,
  failed,
  onToggle,
}: {
  domains: Schema["DomainOut"][];
  failed: Failed;
  onToggle: (what: Fails, id: string) => void;
}) {
  return domains.map((d) => {
    const { one, key } = UNIT_WORD[d.domain];
    return (
      <div
        key={d.domain}
        style={{
          margin: "0.5rem 0 0",
          display: "flex",
          gap: "0.4rem",
          flexWrap: "wrap",
          alignItems: "center",
        }}
      >
        <span>
          {d.guaranteed === 0
            ? `Does not survive the loss of a whole ${one}`
            : sentence(survivesAny(d.guaranteed, one))}
          {d.best_case > d.guaranteed && `; in the best case ${d.best_case}`}.
        </span>
        {key &&
          d.units.slice(0, 24).map((unit) => (
            <Button
              key={unit}
              size="compact-xs"
              variant={failed[key].has(unit) ? "filled" : "default"}
              color={failed[key].has(unit) ? "rust" : undefined}
              aria-pressed={failed[key].has(unit)}
              aria-label={`${one} ${unit}: say it fails`}
              onClick={() => onToggle(key, unit)}
            >
              {unit}
              {failed[key].has(unit) ? " fails" : ""}
            </Button>
          ))}
      </div>
    );
  });
}

/** What is said where a layout has no such figure. */
const NONE: Record<string, string> = {
  cost_per_usable_tb: "prices not known",
  restore_hours: "no backup recorded",
  mttdl_hours: "never",
};
/** What stands in the space account and the survival curve beside. */
const ELSEWHERE = ["redundancy", "uneven", "guaranteed", "best_case", "cost"];

function Figures({ layout, body }: { layout: Layout; body: Body }) {
  const figures = useFigures().filter((f) => !ELSEWHERE.includes(f.id));
  /** What belongs to a figure besides its value. */
  const more: Record<string, string | false> = {
    restore_hours:
      layout.restore_hours !== null && `, from a copy up to ${body.backup_age_hours ?? 24} h old`,
    watts:
      layout.cost.yearly_power !== null &&
      `, ${formatMoney(layout.cost.yearly_power, layout.cost.currency)} a year`,
  };
  return (
    <div className="paper">
      <h2>Figures</h2>
      <Text size="sm" c="dimmed" className="no-print">
        Click a figure: how is this computed?
      </Text>
      <table className="plain" style={{ marginTop: "0.3rem" }}>
        <tbody>
          {figures.map((figure) => (
            <tr key={figure.id}>
              <td>
                <Meaning figure={figure}>{figure.label}</Meaning>
              </td>
              <td className="num">
                <FigureValue figure={figure} layout={layout} body={body} none={NONE[figure.id] ?? "none"} />
                {more[figure.id]}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Reasons({ layout }: { layout: Layout }) {
  const said = new Set(layout.cons);
  const cautions = layout.cautions.filter((c) => !said.has(c.sentence));
  return (
    <div className="paper">
      <h2>For and against</h2>
      <ul className="reasons">
        {keyed(layout.pros).map(({ key, text }) => (
          <li key={key} className="pro">
            {text}
          </li>
        ))}
        {keyed(layout.cons).map(({ key, text }) => (
          <li key={key} className="con">
            {text}
          </li>
        ))}
        {cautions.map((c) => (
          <li key={c.code} className="con">
            {c.sentence}
          </li>
        ))}
      </ul>
    </div>
  );
}

const OPENING: Record<string, string> = { open: "open", "at-a-cost": "at a cost", closed: "closed" };

function Doors({ doors, fixed }: { doors: Schema["DoorOut"][]; fixed: string[] }) {
  return (
    <div className="paper">
      <h2>
        <Term word="door">Doors</Term>: what can be changed later
      </h2>
      <table className="plain doors" style={{ marginTop: "0.4rem" }}>
        <tbody>
          {doors.map((d) => (
            <tr key={d.change}>
              <td style={{ width: 30 }}>
                <DoorMark opening={d.opening} />
              </td>
              <td>
                <span style={{ fontWeight: 550 }}>{d.name}</span>:{" "}
                <span className={d.opening === "closed" ? "rust" : "pine"}>{OPENING[d.opening]}</span>
                <div className="faint">{d.why}</div>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <h3 style={{ marginTop: "0.8rem" }}>Fixed at building</h3>
      <ul style={{ margin: "0.2rem 0 0", paddingLeft: "1.1rem" }}>
        {keyed(fixed).map(({ key, text }) => (
          <li key={key}>{text}</li>
        ))}
      </ul>
    </div>
  );
}

/** A door in its frame: open wide, ajar, or shut. */
function DoorMark({ opening }: { opening: string }) {
  const leaf = { open: "M5 3L1 5V19L5 17", "at-a-cost": "M5 3L11 5V19L5 17", closed: "M5 3H17V17H5" }[
    opening
  ];
  return (
    <svg width="22" height="21" aria-hidden="true">
      <path d="M5 17V3H17V17" fill="none" stroke="var(--faint)" />
      <path
        d={`${leaf}Z`}
        fill={opening === "closed" ? "url(#hatch)" : "var(--spine)"}
        stroke={opening === "closed" ? "var(--rust)" : "var(--ink)"}
      />
    </svg>
  );
}

function standing(layout: Layout): string {
  const { guaranteed, best_case } = layout.survives;
  if (best_case === 0) return "Any failed drive loses the data.";
  const sure = sentence(survivesAny(guaranteed));
  return best_case > guaranteed ? `${sure}; in the best case ${best_case}, in the right sets.` : `${sure}.`;
}
