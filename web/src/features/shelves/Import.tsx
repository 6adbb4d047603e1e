/** Importing an inventory: how each column was understood, what is wrong row by row, then all or nothing. */
import { Button, FileButton, Group, Stack, Text } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type DragEvent, useState } from "react";
import { Link, useNavigate } from "react-router";
import { type Schema, sendFile } from "../../api/client";
import { useKinds, useMay } from "../../shared/me";
import { Act, Heading, Trouble } from "../../shared/parts";
import { Size } from "../../shared/units";

type Reading = Schema["ReadingOut"];

export function Import() {
  const [file, setFile] = useState<File | null>(null);
  const may = useMay("manage-drives");
  const accepts = useKinds()
    ?.tables.flatMap((t) => t.accepts)
    .join(",");
  const go = useNavigate();
  const client = useQueryClient();
  const preview = useMutation({ mutationFn: (chosen: File) => sendFile("/api/inventory/preview", chosen) });
  const store = useMutation({
    mutationFn: (chosen: File) => sendFile("/api/inventory", chosen),
    onSuccess: (reading) => {
      if (!reading.stored) return;
      client.invalidateQueries();
      go("/shelves?filter=new");
    },
  });
  const choose = (chosen: File | null) => {
    if (!chosen) return;
    setFile(chosen);
    store.reset();
    preview.mutate(chosen);
  };
  const reading = store.data ?? preview.data;
  const drop = (e: DragEvent) => {
    e.preventDefault();
    choose(e.dataTransfer.files[0] ?? null);
  };
  return (
    <Stack>
      <Heading title="Import drives">
        <Link to="/shelves">back to the shelves</Link>
      </Heading>
      {/* biome-ignore lint/a11y/noStaticElementInteractions: dropping is a second way; the button is the first */}
      <div
        className="paper"
        onDragOver={(e) => e.preventDefault()}
        onDrop={drop}
        style={{ borderStyle: "dashed" }}
      >
        <Group>
          <FileButton onChange={choose} accept={accepts}>
            {(props) => (
              <Act why={may.why} onClick={props.onClick}>
                Choose a CSV file
              </Act>
            )}
          </FileButton>
          <Button variant="subtle" component="a" href="/api/inventory/template.csv" download>
            A template to fill in
          </Button>
          <Text c="dimmed" style={{ flex: "1 1 300px" }}>
            {file
              ? file.name
              : "or drop one here. Needed: shelf, bay, serial, size, kind. Anything else is welcome; headings are matched kindly."}
          </Text>
        </Group>
      </div>
      <Trouble error={preview.error ?? store.error} />
      {preview.isPending && <Text c="dimmed">Reading…</Text>}
      {reading && <Understood reading={reading} />}
      {reading && file && (
        <Group>
          <Act
            why={
              reading.errors.length
                ? "Put the rows right first: all drives are stored, or none."
                : reading.new + reading.changed.length === 0
                  ? "The books say the same already."
                  : null
            }
            loading={store.isPending}
            onClick={() => store.mutate(file)}
          >
            {bringIn(reading)}
          </Act>
          <Button variant="subtle" component={Link} to="/shelves">
            Leave it
          </Button>
        </Group>
      )}
    </Stack>
  );
}

function Understood({ reading }: { reading: Reading }) {
  const wrong = reading.errors.length + reading.more_errors;
  return (
    <>
      <section className="paper" aria-label="Columns">
        <h2>How the columns were understood</h2>
        <div style={{ display: "flex", flexWrap: "wrap", gap: "0.4rem 1.6rem", marginTop: "0.6rem" }}>
          {reading.columns.map((column, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: headings may repeat
            <span key={i} className={column.as_heading ? undefined : "faint"}>
              {column.heading || "(no heading)"} →{" "}
              {column.as_heading ? (
                <strong>
                  {column.as_heading}
                  {column.unit ? ` in ${column.unit}` : ""}
                </strong>
              ) : (
                "left aside"
              )}
            </span>
          ))}
        </div>
      </section>
      {wrong > 0 && (
        <section className="paper" aria-label="What is wrong" style={{ borderColor: "var(--rust)" }}>
          <h2 className="rust">
            {wrong} thing{wrong > 1 ? "s" : ""} to put right; nothing has been stored
          </h2>
          <div
            className="scroll-x"
            tabIndex={0}
            style={{ maxHeight: 320, overflowY: "auto", marginTop: "0.5rem" }}
          >
            <table className="plain">
              <thead>
                <tr>
                  <th className="num">row</th>
                  <th>column</th>
                  <th>reason</th>
                </tr>
              </thead>
              <tbody>
                {reading.errors.map((error) => (
                  <tr key={`${error.row}-${error.column}-${error.reason}`}>
                    <td className="num">{error.row}</td>
                    <td>{error.column ?? ""}</td>
                    <td>{error.reason}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
          {reading.more_errors > 0 && <p className="faint">and {reading.more_errors} more</p>}
        </section>
      )}
      <Differences reading={reading} />
      {reading.first_rows.length > 0 && (
        <section className="paper scroll-x" tabIndex={0} aria-label="First rows">
          <h2>
            The first of {reading.total_rows.toLocaleString("en")} row{reading.total_rows > 1 ? "s" : ""}
          </h2>
          <table className="plain" style={{ marginTop: "0.5rem" }}>
            <thead>
              <tr>
                <th>site</th>
                <th>shelf</th>
                <th className="num">bay</th>
                <th>maker, model</th>
                <th>serial</th>
                <th className="num">size</th>
                <th>kind</th>
                <th>holds other data</th>
              </tr>
            </thead>
            <tbody>
              {reading.first_rows.map((row) => (
                <tr key={row.row}>
                  <td>{row.site}</td>
                  <td>{row.shelf}</td>
                  <td className="num">{row.bay}</td>
                  <td>{[row.maker, row.model].filter(Boolean).join(" ")}</td>
                  <td>{row.serial}</td>
                  <td className="num">
                    <Size bytes={row.size} />
                  </td>
                  <td>{row.kind}</td>
                  <td>{row.holds ?? ""}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      )}
    </>
  );
}

function bringIn(reading: Reading): string {
  const changed = reading.changed.length + reading.more_changed;
  const fresh = reading.errors.length ? reading.good_rows : reading.new;
  const drives = `Bring in ${fresh.toLocaleString("en")} drive${fresh === 1 ? "" : "s"}`;
  if (!changed || reading.errors.length) return drives;
  return fresh ? `${drives}, put ${changed} right` : `Put ${changed} drive${changed === 1 ? "" : "s"} right`;
}

/** What the list does to the books. */
function Differences({ reading }: { reading: Reading }) {
  const { changed, gone, same } = reading;
  if (!changed.length && !gone.length && !same) return null;
  return (
    <section className="paper" aria-label="Against the books">
      <h2>Against the books</h2>
      <p style={{ margin: "0.3rem 0" }}>
        {reading.new.toLocaleString("en")} new, {(changed.length + reading.more_changed).toLocaleString("en")}{" "}
        changed, {same.toLocaleString("en")} as they are.
      </p>
      {changed.length > 0 && (
        <table className="plain">
          <tbody>
            {changed.map((c) => (
              <tr key={c.serial}>
                <td className="num">row {c.row}</td>
                <td>{c.serial}</td>
                <td>
                  {c.facts.map((f) => (
                    <div key={f.fact}>
                      {f.fact}: <span className="faint">{f.before}</span> → {f.after}
                    </div>
                  ))}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {reading.more_changed > 0 && <p className="faint">and {reading.more_changed} more</p>}
      {gone.length > 0 && (
        <p style={{ margin: "0.5rem 0 0" }}>
          In the books on these shelves and not in the list: {gone.join(", ")}
          {reading.more_gone > 0 ? ` and ${reading.more_gone} more` : ""}. They stay as they are; a drive that
          is gone leaves by its sheet.
        </p>
      )}
    </section>
  );
}
