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
            why={reading.errors.length ? "Put the rows right first: all drives are stored, or none." : null}
            loading={store.isPending}
            onClick={() => store.mutate(file)}
          >
            {`Bring in ${reading.good_rows.toLocaleString("en")} drive${reading.good_rows === 1 ? "" : "s"}`}
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
