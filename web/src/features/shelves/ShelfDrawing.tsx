/** One shelf: its bays in rows on boards, a spine for each drive, a gap for each empty bay. */
import { type KeyboardEvent, type MouseEvent, memo, useState } from "react";
import type { Schema } from "../../api/client";
import { useMay } from "../../shared/me";
import { useSelection } from "../../shared/selection";
import { BAY_WIDTH, type Drive, SpineDrawing, situationWord, TALLEST } from "../../shared/spine";
import { Size, shortSize, type UnitSystem, useUnits } from "../../shared/units";
import { ShelfActs } from "./ByHand";
import { useDrivesOf } from "./drives";
import { PutIn } from "./PutIn";

const BOARD = TALLEST + 18;
const HEIGHT = BOARD + 46;

type Shelf = Schema["ShelfOut"];

interface Props {
  shelf: Shelf;
  largest: number;
  perRow: number;
  /** The drives that pass the filter; null without one. */
  matched: ReadonlySet<number> | null;
  shown: number | null;
  onShow: (id: number) => void;
}

/** The spine clicked last, for choosing a stretch with Shift. */
let anchor: number | null = null;

export function ShelfDrawing({ shelf, largest, perRow, matched, shown, onShow }: Props) {
  const { system } = useUnits();
  const { ids, toggle, add } = useSelection();
  const stand = useMay("work-stand-ins");
  const [bay, setBay] = useState<number | null>(null);
  const found = useDrivesOf(shelf.id);
  const drives = found.data?.drives ?? [];
  const byBay = new Map(drives.map((d) => [d.bay, d]));
  const first = drives.length && drives[0].bay === 0 ? 0 : 1;
  const bays = Array.from({ length: shelf.bays }, (_, i) => i + first);
  const rows: number[][] = [];
  for (let i = 0; i < bays.length; i += perRow) rows.push(bays.slice(i, i + perRow));

  // A shelf of which all that is in use is to leave has its board drawn broken.
  const used = drives.filter((d) => d.service === "in-use");
  const leaving = used.length > 0 && used.every((d) => d.situations.includes("draining"));

  const choose = (drive: Drive, event: MouseEvent | KeyboardEvent) => {
    if (event.shiftKey && anchor !== null && drives.some((d) => d.id === anchor)) {
      const [a, b] = [drives.findIndex((d) => d.id === anchor), drives.findIndex((d) => d.id === drive.id)];
      add(drives.slice(Math.min(a, b), Math.max(a, b) + 1).map((d) => d.id));
    } else {
      toggle(drive.id);
    }
    anchor = drive.id;
    onShow(drive.id);
  };

  return (
    <section
      aria-label={`Shelf ${shelf.name}`}
      style={{ paddingTop: "1rem", flex: "none", width: Math.min(shelf.bays, perRow) * BAY_WIDTH + 16 }}
    >
      <div
        style={{
          display: "flex",
          flexWrap: "wrap",
          gap: "0 0.8rem",
          alignItems: "baseline",
          paddingBottom: 2,
        }}
      >
        <h2 style={{ whiteSpace: "nowrap" }}>{shelf.name}</h2>
        <span className="faint" style={{ fontSize: "0.88rem" }}>
          {shelf.host && shelf.host !== shelf.name ? `host ${shelf.host} · ` : ""}
          {shelf.drives} of {shelf.bays} bays
          {shelf.in_pools > 0 && (
            <>
              {" · "}
              <Size bytes={shelf.used} digits={1} /> used of <Size bytes={shelf.in_pools} digits={1} /> in
              pools
            </>
          )}
          {matched ? ` · ${shelf.matching} match` : ""}
        </span>
        <ShelfActs
          shelf={shelf}
          inUse={used.length}
          draining={used.filter((d) => d.situations.includes("draining")).length}
        />
      </div>
      {rows.map((row) => (
        <svg
          key={row[0]}
          width={row.length * BAY_WIDTH + 16}
          height={HEIGHT}
          role="group"
          aria-label={`Bays ${row[0]} to ${row[row.length - 1]}`}
          style={{ display: "block", overflow: "visible", maxWidth: "100%" }}
        >
          <rect
            x="0"
            y={BOARD}
            width={row.length * BAY_WIDTH + 16}
            height="5"
            fill={leaving ? "none" : "var(--board)"}
          />
          {leaving && (
            <path
              d={`M0 ${BOARD + 2.5}h${row.length * BAY_WIDTH + 16}`}
              stroke="var(--board)"
              strokeWidth="5"
              strokeDasharray="26 7"
            />
          )}
          {row.map((number, i) => {
            const drive = byBay.get(number);
            return (
              <g
                key={number}
                id={drive?.condition === "failed" ? `leaning-${drive.id}` : undefined}
                transform={`translate(${8 + i * BAY_WIDTH} 10)`}
              >
                {drive ? (
                  <Spine
                    drive={drive}
                    largest={largest}
                    system={system}
                    matches={!matched || matched.has(drive.id)}
                    selected={ids.has(drive.id)}
                    shown={shown === drive.id}
                    onChoose={choose}
                  />
                ) : (
                  <Gap
                    bay={number}
                    shelf={shelf.name}
                    onPutIn={stand.may && !found.isPending ? () => setBay(number) : undefined}
                  />
                )}
                <text x={BAY_WIDTH / 2} y={BOARD + 12} textAnchor="middle" fontSize="12" fill="var(--ink)">
                  {number}
                </text>
                {drive && <Word drive={drive} />}
              </g>
            );
          })}
          {/* A spine that leans is drawn over its neighbours; the order in which keys go round stays. */}
          {row.map((number) => {
            const drive = byBay.get(number);
            if (drive?.condition !== "failed") return null;
            return <use key={number} href={`#leaning-${drive.id}`} style={{ pointerEvents: "none" }} />;
          })}
        </svg>
      ))}
      {bay !== null && <PutIn shelf={shelf} bay={bay} onClose={() => setBay(null)} />}
    </section>
  );
}

function Word({ drive }: { drive: Drive }) {
  const word = situationWord(drive);
  const grave = ["failed", "failing", "missing", "offline", "new"].includes(word);
  return (
    <text
      x={BAY_WIDTH / 2}
      y={BOARD + 26}
      textAnchor="middle"
      fontSize="11.5"
      fill={grave ? "var(--rust)" : "var(--faint)"}
    >
      {word.length > 9 ? `${word.slice(0, 8)}…` : word}
    </text>
  );
}

function Gap({ bay, shelf, onPutIn }: { bay: number; shelf: string; onPutIn?: () => void }) {
  const press = (e: KeyboardEvent) => {
    if (e.key === "Enter" || e.key === " ") {
      e.preventDefault();
      onPutIn?.();
    }
  };
  const frame = (
    <rect
      x="9"
      y={TALLEST - 40}
      width={BAY_WIDTH - 18}
      height="48"
      fill="transparent"
      stroke="var(--line)"
      strokeDasharray="2 4"
    />
  );
  if (!onPutIn) return frame;
  return (
    <g
      role="button"
      tabIndex={0}
      aria-label={`${shelf} bay ${bay}, empty: put a simulated drive in`}
      style={{ cursor: "pointer" }}
      onClick={onPutIn}
      onKeyDown={press}
    >
      {frame}
      <path
        d={`M${BAY_WIDTH / 2 - 5} ${TALLEST - 16}h10M${BAY_WIDTH / 2} ${TALLEST - 21}v10`}
        stroke="var(--faint)"
      />
      <title>Put a simulated drive in</title>
    </g>
  );
}

interface SpineProps {
  drive: Drive;
  largest: number;
  system: UnitSystem;
  matches: boolean;
  selected: boolean;
  shown: boolean;
  onChoose: (drive: Drive, event: MouseEvent | KeyboardEvent) => void;
}

const Spine = memo(
  function Spine({ drive, largest, system, matches, selected, shown, onChoose }: SpineProps) {
    const press = (e: KeyboardEvent<SVGGElement>) => {
      if (e.key === " " || e.key === "Enter") {
        e.preventDefault();
        onChoose(drive, e);
      }
      const step = { ArrowRight: 1, ArrowLeft: -1, ArrowDown: 1, ArrowUp: -1 }[e.key];
      if (step) {
        e.preventDefault();
        const all = [...document.querySelectorAll<SVGGElement>("[data-drive]")];
        const here = all.indexOf(e.currentTarget);
        const target =
          e.key === "ArrowDown" || e.key === "ArrowUp" ? beside(all, here, step) : all[here + step];
        target?.focus();
      }
    };
    return (
      <g
        role="checkbox"
        aria-checked={selected}
        aria-label={`${drive.shelf} bay ${drive.bay}, ${shortSize(drive.size, system)} ${drive.kind}, ${situationWord(drive)}, serial ${drive.serial}`}
        tabIndex={0}
        data-drive={drive.id}
        opacity={matches ? 1 : 0.22}
        style={{ cursor: "pointer", scrollMargin: "90px 0 140px" }}
        onClick={(e) => onChoose(drive, e)}
        onKeyDown={press}
      >
        <rect width={BAY_WIDTH} height={TALLEST + 18} fill={shown ? "var(--pine-wash)" : "transparent"} />
        <SpineDrawing drive={drive} largest={largest} system={system} selected={selected} />
      </g>
    );
  },
  (a, b) =>
    a.drive === b.drive &&
    a.matches === b.matches &&
    a.selected === b.selected &&
    a.shown === b.shown &&
    a.system === b.system &&
    a.largest === b.largest,
);

/** The spine nearest below or above. */
function beside(all: SVGGElement[], here: number, step: number): SVGGElement | undefined {
  const now = all[here].getBoundingClientRect();
  let best: SVGGElement | undefined;
  let least = Number.POSITIVE_INFINITY;
  for (const other of all) {
    const r = other.getBoundingClientRect();
    const down = (r.top - now.top) * step;
    if (down < 20) continue;
    const distance = down * 3 + Math.abs(r.left - now.left);
    if (distance < least) {
      least = distance;
      best = other;
    }
  }
  return best;
}
