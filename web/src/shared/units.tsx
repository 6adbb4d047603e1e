/** Sizes and times for people. One switch turns every size on every screen. */
import { createContext, type ReactNode, useContext, useMemo, useState } from "react";

export type UnitSystem = "decimal" | "binary";

const UNITS = {
  decimal: { base: 1000, names: ["B", "kB", "MB", "GB", "TB", "PB"] },
  binary: { base: 1024, names: ["B", "KiB", "MiB", "GiB", "TiB", "PiB"] },
};

export function formatSize(bytes: number, system: UnitSystem, digits = 2): string {
  const { base, names } = UNITS[system];
  let value = Math.abs(bytes);
  let step = 0;
  while (value >= base && step < names.length - 1) {
    value /= base;
    step += 1;
  }
  const sign = bytes < 0 ? "−" : "";
  return step === 0 ? `${sign}${value} B` : `${sign}${value.toFixed(digits)} ${names[step]}`;
}

/** A size without needless zeros, for labels on spines: "6 TB", "5.46 TiB". */
export function shortSize(bytes: number, system: UnitSystem): string {
  return formatSize(bytes, system).replace(/\.(\d*?)0+ /, (_, digits) => (digits ? `.${digits} ` : " "));
}

/** A size for a field: to the byte, in the unit of the switch where that is short, else in the other, else in bytes. */
export function typedSize(bytes: number, system: UnitSystem): string {
  for (const one of [system, system === "decimal" ? "binary" : "decimal"] as const) {
    const { base, names } = UNITS[one];
    for (let step = names.length - 1; step > 0; step--) {
      const value = bytes / base ** step;
      if (value >= 1 && Math.abs(value * 1000 - Math.round(value * 1000)) < 1e-9)
        return `${value} ${names[step]}`;
    }
  }
  return `${bytes} B`;
}

export function formatHours(hours: number): string {
  const seconds = hours * 3600;
  if (seconds < 60) return `${Math.round(seconds)} s`;
  const minutes = Math.round(seconds / 60);
  if (minutes < 60) return `${minutes} min`;
  if (minutes < 48 * 60) {
    const rest = minutes % 60;
    return `${Math.floor(minutes / 60)} h${rest ? ` ${rest} min` : ""}`;
  }
  const whole = Math.round(hours);
  return `${Math.floor(whole / 24)} d${whole % 24 ? ` ${whole % 24} h` : ""}`;
}

/** Hours in one figure, for columns: "8.8 h", "3.2 d". */
export function shortHours(hours: number): string {
  if (hours < 1) return `${Math.max(1, Math.round(hours * 60))} min`;
  return hours < 72 ? `${hours.toFixed(1)} h` : `${(hours / 24).toFixed(1)} d`;
}

/** A chance within a year: in per cent while that says something, else as once in so many. */
export function formatChance(chance: number): string {
  if (chance === 0) return "none";
  if (chance >= 0.001) return `${(chance * 100).toPrecision(2)} %`;
  if (chance < 1e-12) return "below 1 in 10¹²";
  const once = 1 / chance;
  const [value, word] =
    once >= 1e9 ? [once / 1e9, " billion"] : once >= 1e6 ? [once / 1e6, " million"] : [once, ""];
  const round = Number(value.toPrecision(2));
  return `1 in ${Math.round(round).toLocaleString("en").replaceAll(",", "\u202f")}${word}`;
}

/** A count or rate with thin spaces between thousands. */
export function formatCount(count: number): string {
  return Math.round(count).toLocaleString("en").replaceAll(",", "\u202f");
}

/** How long an answer takes, given in seconds. */
export function formatResponse(seconds: number | null): string {
  if (seconds === null) return "–";
  if (seconds >= 10) return `${Math.round(seconds)} s`;
  if (seconds >= 1) return `${seconds.toFixed(1)} s`;
  const thousandths = seconds * 1000;
  if (thousandths < 0.001) return "0 ms";
  return `${thousandths >= 10 ? Math.round(thousandths) : thousandths.toPrecision(2)} ms`;
}

export function formatMoney(value: number, currency: string | null | undefined): string {
  const text = value.toLocaleString("en", { minimumFractionDigits: 2, maximumFractionDigits: 2 });
  return `${text.replaceAll(",", "\u202f")}${currency ? ` ${currency}` : ""}`;
}

export function formatWhen(iso: string): string {
  const when = new Date(iso);
  const pad = (n: number) => String(n).padStart(2, "0");
  const day = `${when.getFullYear()}-${pad(when.getMonth() + 1)}-${pad(when.getDate())}`;
  return `${day} ${pad(when.getHours())}:${pad(when.getMinutes())}`;
}

const Units = createContext<{ system: UnitSystem; turn: (to: UnitSystem) => void }>({
  system: "decimal",
  turn: () => {},
});

const KEY = "pairshelf.units";

export function UnitsProvider({ children }: { children: ReactNode }) {
  const [system, setSystem] = useState<UnitSystem>(() =>
    localStorage.getItem(KEY) === "binary" ? "binary" : "decimal",
  );
  const value = useMemo(
    () => ({
      system,
      turn: (to: UnitSystem) => {
        localStorage.setItem(KEY, to);
        setSystem(to);
      },
    }),
    [system],
  );
  return <Units.Provider value={value}>{children}</Units.Provider>;
}

export const useUnits = () => useContext(Units);

/** A size in the chosen unit; hovering shows the bytes. */
export function Size({ bytes, digits }: { bytes: number; digits?: number }) {
  const { system } = useUnits();
  return (
    <span title={`${bytes.toLocaleString("en").replaceAll(",", "\u202f")} bytes`}>
      {formatSize(bytes, system, digits)}
    </span>
  );
}
