/** Any kind of change the server knows, drawn up from the fields it asks for; most have a form where they belong, too. */
import { Select, Stack, Text, Title } from "@mantine/core";
import { useNavigate, useParams } from "react-router";
import type { Schema } from "../../api/client";
import { useAddress } from "../../shared/address";
import { useKinds, useMayDo } from "../../shared/me";
import { useTitle } from "../../shared/parts";
import { type FieldSpec, SheetFields } from "../../shared/SheetForm";

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

/** How a field is asked for, by its name or else its sort. A number without a usual value may stay empty. */
const KIND: Record<string, FieldSpec["kind"]> = {
  volume: "volume",
  list: "tags",
  check: "check",
  number: "number",
  text: "text",
};

/** A field as the form shows it, from what the server says of it. */
function shown(field: Kind["fields"][number]): FieldSpec {
  return {
    name: field.name,
    label: sentence(field.name),
    kind: KIND[field.name] ?? KIND[field.kind === "number" && field.default == null ? "text" : field.kind],
    initial: field.default ?? undefined,
    required: field.required && field.kind !== "list",
    optional: !field.required && field.default == null,
    description: HINTS[field.name] ?? (field.kind === "list" ? LISTED : undefined),
  };
}

export function Draw() {
  useTitle("Draw up a change");
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

const isWords = (field: FieldSpec) => field.kind === "text" || field.kind === "volume";

function Form({ kind }: { kind: Kind }) {
  // What the way here said already, such as the volume it is about.
  const [params] = useAddress();
  return (
    <SheetFields
      kind={kind.id}
      fields={kind.fields
        .map(shown)
        .map((f) => ({ ...f, initial: (isWords(f) && params.get(f.name)) || f.initial }))}
      about={<Text>{kind.about}</Text>}
      why={useMayDo(kind.id).why}
    />
  );
}
