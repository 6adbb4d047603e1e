/** The cut of very many drives: one block a set, to scale. Pressing one says that one more of its drives fails. */
import type { Schema } from "../api/client";
import { SvgButton } from "./SvgButton";
import { formatSize, useUnits } from "./units";

const TALL = 150;
const WIDE = 34;
const GAP = 8;
const GIB = 2 ** 30;

export function SetBlocks({
  cut,
  failed,
  onFail,
}: {
  cut: Schema["Cut"];
  failed: ReadonlySet<string>;
  onFail?: (id: string) => void;
}) {
  const { system } = useUnits();
  const sets = Math.max(...cut.members.map((m) => m.set)) + 1;
  const largest = Math.max(...cut.members.map((m) => m.extents), 1);
  const width = sets * (WIDE + GAP) + (cut.spares.length ? 60 : 0) + 12;
  return (
    <svg width={width} height={TALL + 62} role="group" aria-label="The cut: sets of this layout">
      {Array.from({ length: sets }, (_, set) => {
        const members = cut.members.filter((m) => m.set === set);
        const index = cut.members.indexOf(members[0]);
        const group = cut.bands.flatMap((b) => b.groups).find((g) => g.members.includes(index));
        const tall = (Math.max(...members.map((m) => m.extents)) / largest) * TALL;
        const used = (Math.min(...members.map((m) => m.used)) / largest) * TALL;
        const data = group ? (used * group.data) / group.width : used;
        const gone = members.filter((m) => failed.has(m.id)).length;
        const next = members.find((m) => !failed.has(m.id)) ?? members[0];
        const foot = 20 + TALL;
        const bytes = members.reduce((sum, m) => sum + m.size, 0);
        const said = `Set ${set + 1}: ${members.length} drives, ${formatSize(bytes, system)}${gone ? `, ${gone} failed` : ""}`;
        return (
          <SvgButton
            // biome-ignore lint/suspicious/noArrayIndexKey: sets are numbered
            key={set}
            name={`${said}: say one more of its drives fails`}
            pressed={gone > 0}
            onPress={onFail && (() => onFail(next.id))}
            transform={`translate(${6 + set * (WIDE + GAP)} 0)`}
          >
            <title>{`${said}. Data ${formatSize((data / TALL) * largest * GIB, system)} of each drive, the rest redundancy.`}</title>
            <rect y={foot - tall} width={WIDE} height={tall} fill="var(--sheet)" />
            <rect y={foot - data} width={WIDE} height={data} fill="var(--spine)" />
            <rect y={foot - used} width={WIDE} height={used - data} fill="url(#hatch)" />
            <rect
              y={foot - tall}
              width={WIDE}
              height={tall}
              fill="none"
              stroke={gone ? "var(--rust)" : "var(--ink)"}
              strokeWidth={gone ? 1.8 : 1}
              rx="3"
            />
            <text x={WIDE / 2} y="12" fontSize="11.5" textAnchor="middle" fill="var(--faint)">
              {set + 1}
            </text>
            <text x={WIDE / 2} y={foot + 18} fontSize="11.5" textAnchor="middle" fill="var(--ink)">
              × {members.length}
            </text>
            {gone > 0 && (
              <text x={WIDE / 2} y={foot + 33} fontSize="11" textAnchor="middle" fill="var(--rust)">
                {gone} fail{gone === 1 ? "s" : ""}
              </text>
            )}
          </SvgButton>
        );
      })}
      {cut.spares.length > 0 && (
        <text x={sets * (WIDE + GAP) + 14} y={TALL + 38} fontSize="11.5" fill="var(--faint)">
          + {cut.spares.length} spare{cut.spares.length > 1 ? "s" : ""}
        </text>
      )}
      <path d={`M0 ${TALL + 22}H${width}`} stroke="var(--board)" strokeWidth="4" />
    </svg>
  );
}
