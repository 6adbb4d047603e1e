/** Any kind of change the server knows, drawn up from the fields it asks for; most have a form where they belong, too. */
import { Button, Select, Stack, Text, Title } from "@mantine/core";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import type { Schema } from "../../api/client";
import { useKinds, useMayDo } from "../../shared/me";
import { errorOf, Trouble } from "../../shared/parts";
import { Field, type FieldSpec, useDrawUp, type Values } from "../../shared/SheetForm";

type Kind = Schema["ChangeKindOut"];

const sentence = (words: string) => words.charAt(0).toUpperCase() + words.slice(1).replaceAll("_", " ");

const LISTED = "One after the other, each ended by a comma or Enter.";
/** What is asked for by number is easier to choose where it stands. */
const HINTS: Record<string, string> = {
  drives: "Numbers of drives. They are easier to choose on the shelves: Compare leads on from there.",
  drive_id: "The drive's number. It is easier to choose where the pool asks for it.",
  pool_id: "The pool's number, as in the address of its page.",
  slot: "The place in the pool, from 0.",
};

/** A field as the form shows it, from what the server says of it. */
function shown(field: Kind["fields"][number]): FieldSpec {
  return {
    name: field.name,
    label: sentence(field.name),
    kind:
      field.kind === "list" ? "tags" : field.name === "volume" ? "volume" : (field.kind as FieldSpec["kind"]),
    initial: field.default ?? undefined,
    required: field.required && field.kind !== "list",
    description: HINTS[field.name] ?? (field.kind === "list" ? LISTED : undefined),
  };
}

export function Draw() {
  const kinds = useKinds()?.changes;
  const { kind } = useParams();
  const go = useNavigate();
  const chosen = kinds?.find((k) => k.id === kind);
  return (
    <Stack maw={640}>
      <Title order={1}>Draw up a change</Title>
      <Text>Nothing is done before its sheet is approved.</Text>
      <Select
        label="Kind of change"
        searchable
        data={(kinds ?? []).map((k) => ({ value: k.id, label: sentence(k.name) }))}
        value={chosen?.id ?? null}
        onChange={(id) => id && go(`/changes/draw/${id}`, { replace: true })}
      />
      {chosen && <Form key={chosen.id} kind={chosen} />}
    </Stack>
  );
}

function Form({ kind }: { kind: Kind }) {
  const fields = kind.fields.map(shown);
  const [values, setValues] = useState<Values>(() =>
    Object.fromEntries(
      fields.map((f) => [
        f.name,
        f.initial ?? (f.kind === "tags" ? [] : f.kind === "check" ? false : f.kind === "number" ? 0 : ""),
      ]),
    ),
  );
  const may = useMayDo(kind.id);
  const draw = useDrawUp(kind.id);
  const sent = () =>
    Object.fromEntries(
      kind.fields
        .filter((f) => f.required || values[f.name] !== "" || f.default !== null)
        .map((f) => [f.name, values[f.name]]),
    );
  return (
    <form
      autoComplete="off"
      onSubmit={(e) => {
        e.preventDefault();
        draw.mutate(sent());
      }}
    >
      <Stack gap="sm">
        <Text>{kind.about}</Text>
        {fields.map((field) => (
          <Field
            key={field.name}
            field={field}
            value={values[field.name]}
            error={errorOf(draw.error, field.name)}
            set={(value) => setValues((before) => ({ ...before, [field.name]: value }))}
          />
        ))}
        {draw.isError && !errorOf(draw.error, ...fields.map((f) => f.name)) && <Trouble error={draw.error} />}
        <div>
          <Button type="submit" loading={draw.isPending} disabled={!may.may}>
            Draw up the change sheet
          </Button>
        </div>
        {may.why && <Text className="faint">{may.why}</Text>}
      </Stack>
    </form>
  );
}
