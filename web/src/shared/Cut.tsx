/**
 * The cut: a layout drawn as its drives side by side to scale, cut into sets and bands. Data is plain,
 * redundancy hatched, spares banded, what is left over blank. Clicking a spine says "this one fails".
 */
import { type ReactNode, useId } from "react";
import type { Schema } from "../api/client";
import { SetBlocks } from "./SetBlocks";
import { SvgButton } from "./SvgButton";
import { spinePath, tintOf } from "./spine";
import { formatSize, shortSize, useUnits } from "./units";

const TALL = 190;
const GIB = 2 ** 30;
/** More drives than this are drawn set by set. */
const MANY = 60;

type CutData = Schema["Cut"];

interface Props {
  cut: CutData;
  /** What stands under each spine, by the drive's id: its bay, or its number. */
  label: (id: string) => string;
  failed: ReadonlySet<string>;
  /** Places whose drive is being filled. */
  filling?: ReadonlySet<string>;
  /** The word under a drive that is gone: it has failed, or is only said to. */
  goneWord?: string;
  onFail?: (id: string) => void;
  tint?: number;
  title?: (id: string) => string;
  /** Of each drive, the row that the front of a restripe has come to: a ribbon is laid across there. */
  ribbon?: number[];
}

export function Cut({ cut, label, failed, filling, goneWord = "fails", onFail, tint, title, ribbon }: Props) {
  const mark = useId();
  const { system } = useUnits();
  const count = cut.members.length + cut.spares.length;
  const width =
    count > 60 ? Math.max(3, Math.min(14, 1080 / count - 2)) : count > 24 ? 22 : count > 14 ? 30 : 40;
  const gap = count > 60 ? 2 : count > 24 ? 3 : 8;
  const setGap = 26;
  const largest = Math.max(...cut.members.map((m) => m.extents), ...cut.spares.map((s) => s.extents), 1);
  const high = (extents: number) => (extents / largest) * TALL;
  const sets = Math.max(...cut.members.map((m) => m.set)) + 1;
  let x = 10;
  let lastSet = 0;
  const places: { x: number; index: number }[] = [];
  cut.members.forEach((member, index) => {
    if (member.set !== lastSet) {
      x += setGap - gap;
      lastSet = member.set;
    }
    places.push({ x, index });
    x += width + gap;
  });
  const firstSpare = x + setGap - gap;
  const total = firstSpare + cut.spares.length * (width + gap) + 12;
  if (count > MANY && sets > 1)
    return (
      <div className="scroll-x" tabIndex={0}>
        <SetBlocks cut={cut} failed={failed} onFail={onFail} />
        <Legend cut={cut} tint={tint} />
      </div>
    );
  return (
    <div className="scroll-x" tabIndex={0}>
      <svg
        width={total}
        height={TALL + 74}
        role="group"
        aria-label="The cut: drives of this layout"
        style={{ display: "block" }}
      >
        {sets > 1 && <SetMarks cut={cut} places={places} width={width} />}
        {places.map(({ x: left, index }) => {
          const member = cut.members[index];
          const gone = failed.has(member.id);
          const top = 30 + TALL - high(member.extents);
          return (
            <SvgButton
              key={member.id}
              pressed={gone}
              name={`${title?.(member.id) ?? label(member.id)}, ${shortSize(member.size, system)}${gone ? ", failed" : ""}: say it fails`}
              onPress={onFail ? () => onFail(member.id) : undefined}
            >
              <g opacity={gone ? 0 : 1}>
                <g
                  id={gone ? `${mark}-${member.id}` : undefined}
                  transform={`translate(${left} ${top}) ${gone ? `rotate(7 ${width} ${high(member.extents)})` : ""}`}
                  opacity={gone ? 0.55 : 1}
                >
                  <Pieces
                    cut={cut}
                    index={index}
                    width={width}
                    high={high}
                    tint={tint}
                    gaps={ribbon !== undefined}
                  />
                  <path
                    d={spinePath(member.kind, high(member.extents), width)}
                    fill="none"
                    stroke={gone ? "var(--rust)" : "var(--ink)"}
                    strokeDasharray={filling?.has(member.id) ? "5 3" : undefined}
                    strokeWidth={gone ? 1.8 : 1}
                  />
                </g>
              </g>
              {count <= MANY && (
                <text
                  x={left + width / 2}
                  y={TALL + 48}
                  fontSize={count > 24 ? 9.5 : 12}
                  textAnchor="middle"
                  fill={gone ? "var(--rust)" : "var(--ink)"}
                >
                  {label(member.id)}
                </text>
              )}
              {gone && count <= 24 && (
                <text x={left + width / 2} y={TALL + 63} fontSize="11" textAnchor="middle" fill="var(--rust)">
                  {filling?.has(member.id) ? "filling" : goneWord}
                </text>
              )}
            </SvgButton>
          );
        })}
        {ribbon && <Ribbon rows={ribbon} places={places} width={width} foot={30 + TALL} high={high} />}
        {/* One that leans is drawn over its neighbours; the order in which keys go round stays. */}
        <g style={{ pointerEvents: "none" }}>
          {cut.members.map(
            (member) => failed.has(member.id) && <use key={member.id} href={`#${mark}-${member.id}`} />,
          )}
        </g>
        {cut.spares.map((spare, i) => {
          const left = firstSpare + i * (width + gap);
          const tall = high(spare.extents);
          return (
            <g key={spare.id} transform={`translate(${left} ${30 + TALL - tall})`}>
              <title>{`Spare, ${formatSize(spare.size, system)}: takes over by itself`}</title>
              <path d={spinePath(spare.kind, tall, width)} fill="var(--sheet)" stroke="var(--ink)" />
              <rect y={tall / 2 - 9} width={width} height="18" fill="var(--sheet)" stroke="var(--ink)" />
              <text x={width / 2} y={tall + 18} fontSize="12" textAnchor="middle" fill="var(--ink)">
                {label(spare.id)}
              </text>
              <text x={width / 2} y={tall + 33} fontSize="11" textAnchor="middle" fill="var(--faint)">
                spare
              </text>
            </g>
          );
        })}
        <path d={`M0 ${TALL + 32}H${total}`} stroke="var(--board)" strokeWidth="4" />
      </svg>
      <Legend cut={cut} tint={tint} />
    </div>
  );
}

function SetMarks({
  cut,
  places,
  width,
}: {
  cut: CutData;
  places: { x: number; index: number }[];
  width: number;
}) {
  const sets = Math.max(...cut.members.map((m) => m.set)) + 1;
  return Array.from({ length: sets }, (_, set) => {
    const own = places.filter((p) => cut.members[p.index].set === set);
    const [from, to] = [own[0].x, own[own.length - 1].x + width];
    return (
      // biome-ignore lint/suspicious/noArrayIndexKey: sets are numbered
      <g key={set}>
        <path d={`M${from} 22v-5H${to}v5`} fill="none" stroke="var(--faint)" />
        <text x={(from + to) / 2} y="12" fontSize="11.5" textAnchor="middle" fill="var(--faint)">
          {to - from > 60 ? `set ${set + 1}` : set + 1}
        </text>
      </g>
    );
  });
}

/** The front as a ribbon laid across the spines, its ends cut like a bookmark's. */
function Ribbon({
  rows,
  places,
  width,
  foot,
  high,
}: {
  rows: number[];
  places: { x: number; index: number }[];
  width: number;
  foot: number;
  high: (e: number) => number;
}) {
  const at = places.map((p) => ({ x: p.x, y: foot - high(rows[p.index] ?? 0) }));
  const last = at[at.length - 1];
  const points = at.flatMap((p) => [`${p.x - 2},${p.y}`, `${p.x + width + 2},${p.y}`]);
  const under = at
    .flatMap((p) => [`${p.x + width + 2},${p.y + 6}`, `${p.x - 2},${p.y + 6}`].reverse())
    .reverse();
  return (
    <g style={{ pointerEvents: "none" }}>
      <title>The front: on one side of it the new layout, on the other the old one</title>
      <polygon points={[...points, ...under].join(" ")} fill="var(--rust)" opacity="0.85" />
      <path
        d={`M${last.x + width + 2} ${last.y}h12l-5 3 5 3h-12z M${at[0].x - 2} ${at[0].y}h-7l4 3-4 3h7z`}
        fill="var(--rust)"
        opacity="0.85"
      />
    </g>
  );
}

/** One drive's pieces, from the foot up: in each band its data and its share of redundancy. */
function Pieces({
  cut,
  index,
  width,
  high,
  tint,
  gaps,
}: {
  gaps: boolean;
  cut: CutData;
  index: number;
  width: number;
  high: (e: number) => number;
  tint?: number;
}) {
  const { system } = useUnits();
  const member = cut.members[index];
  const tall = high(member.extents);
  let foot = 0;
  const pieces: ReactNode[] = [];
  const clip = `cut-${member.id}-${width}-${Math.round(tall)}`;
  cut.bands.forEach((band, number) => {
    const group = band.groups.find((g) => g.members.includes(index));
    if (!group) return;
    // On its way from one layout to another a drive has rows between that hold nothing.
    if (gaps) foot = band.start;
    const plain = (band.rows * group.data) / group.width;
    const guard = band.rows - plain;
    for (const [kind, extents] of [
      ["data", plain],
      ["redundancy", guard],
    ] as const) {
      if (extents <= 0) continue;
      const y = tall - high(foot + extents);
      foot += extents;
      const said = `${kind === "data" ? "Data" : "Redundancy"}: ${formatSize(extents * GIB, system)} of this drive${
        cut.bands.length > 1 ? `, band ${number + 1} over ${group.width} drives` : ""
      }`;
      pieces.push(
        <g key={`${band.start}-${kind}`}>
          <title>{said}</title>
          <rect
            y={y}
            width={width}
            height={high(extents)}
            fill={kind === "data" ? (tint === undefined ? "var(--spine)" : tintOf(tint)) : "var(--sheet)"}
            fillOpacity={kind === "data" && tint !== undefined ? 0.45 : 1}
          />
          {kind === "redundancy" && <rect y={y} width={width} height={high(extents)} fill="url(#hatch)" />}
          <path d={`M0 ${y}h${width}`} stroke="var(--ink)" strokeWidth={kind === "redundancy" ? 1 : 0.4} />
        </g>,
      );
    }
  });
  return (
    <g>
      <clipPath id={clip}>
        <path d={spinePath(member.kind, tall, width)} />
      </clipPath>
      <g clipPath={`url(#${clip})`}>
        <rect width={width} height={tall} fill="var(--sheet)">
          <title>Left over: no set or band can use it</title>
        </rect>
        {pieces}
      </g>
    </g>
  );
}

function Legend({ cut, tint }: { cut: CutData; tint?: number }) {
  const over = cut.members.some((m) => m.used < m.extents);
  const guarded = cut.bands.some((b) => b.groups.some((g) => g.data < g.width));
  const box = (fill: string, opacity = 1) => (
    <svg width="15" height="15" aria-hidden="true" style={{ verticalAlign: "-2px", marginRight: 5 }}>
      <rect x=".5" y=".5" width="14" height="14" fill="var(--sheet)" stroke="var(--ink)" />
      <rect x=".5" y=".5" width="14" height="14" fill={fill} fillOpacity={opacity} />
    </svg>
  );
  return (
    <div
      className="faint"
      style={{ display: "flex", gap: "0.3rem 1.3rem", flexWrap: "wrap", fontSize: "0.88rem" }}
    >
      <span>{tint === undefined ? box("var(--spine)") : box(tintOf(tint), 0.45)}data</span>
      {guarded && <span>{box("url(#hatch)")}redundancy</span>}
      {over && <span>{box("var(--sheet)")}left over</span>}
    </div>
  );
}
