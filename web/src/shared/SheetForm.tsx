/** A small form that draws a change sheet up: every act on a volume, a share or a target begins here. */
import {
  Autocomplete,
  Button,
  Checkbox,
  Group,
  Modal,
  NumberInput,
  Select,
  Stack,
  TagsInput,
  Text,
  TextInput,
} from "@mantine/core";
import type { UseFormReturnType } from "@mantine/form";
import { useMutation } from "@tanstack/react-query";
import { type ReactNode, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { drawUp, server } from "../api/client";
import { useAsking } from "./form";
import { useMayDo } from "./me";
import { Act, Trouble } from "./parts";

type Value = string | number | boolean | string[];
export type Values = Record<string, Value>;

export type FieldSpec = {
  name: string;
  label: string;
  kind?: "text" | "number" | "check" | "select" | "tags" | "volume" | "bare volume" | "suggest";
  description?: string;
  placeholder?: string;
  options?: string[] | { value: string; label: string }[];
  initial?: Value;
  required?: boolean;
  /** Left out where it is empty: the server has no usual value for it. */
  optional?: boolean;
  /** Shown only where this says so. */
  when?: (values: Values) => boolean;
};

/** Draw a sheet up and go to it. */
export function useDrawUp(kind: string) {
  const go = useNavigate();
  // A second click comes before the button can show that the first is on its way.
  const asked = useRef(false);
  const drawing = useMutation({
    mutationFn: (body: object) => drawUp(kind, body),
    onSuccess: (sheet) => go(`/changes/${sheet.id}`),
    onSettled: () => {
      asked.current = false;
    },
  });
  const mutate = (body: object) => {
    if (asked.current) return;
    asked.current = true;
    drawing.mutate(body);
  };
  return { ...drawing, mutate };
}

/** A button that draws a sheet up without asking anything more, or opens a form. */
export function SheetAct({
  kind,
  children,
  body,
  fields,
  title,
  why,
  about,
}: {
  kind: string;
  children: string;
  body?: Values;
  fields?: FieldSpec[];
  title?: string;
  why?: string | null;
  about?: ReactNode;
}) {
  const [open, setOpen] = useState(false);
  const may = useMayDo(kind);
  const draw = useDrawUp(kind);
  return (
    <>
      <Act
        size="xs"
        variant="default"
        why={may.why ?? why}
        loading={draw.isPending}
        onClick={() => (fields ? setOpen(true) : draw.mutate(body ?? {}))}
      >
        {children}
      </Act>
      {!fields && draw.isError && <Trouble error={draw.error} />}
      {open && fields && (
        <SheetForm
          kind={kind}
          title={title ?? children.replace("…", "")}
          fields={fields}
          fixed={body}
          about={about}
          onClose={() => setOpen(false)}
        />
      )}
    </>
  );
}

function SheetForm({
  title,
  onClose,
  ...form
}: {
  kind: string;
  title: string;
  fields: FieldSpec[];
  fixed?: Values;
  about?: ReactNode;
  onClose: () => void;
}) {
  return (
    <Modal opened onClose={onClose} title={title} size="lg">
      <SheetFields
        {...form}
        beside={
          <Button variant="subtle" onClick={onClose}>
            Leave it
          </Button>
        }
      />
    </Modal>
  );
}

/** The fields of a kind of change, filled in and sent. */
export function SheetFields({
  kind,
  fields,
  fixed = {},
  about,
  beside,
  why,
}: {
  kind: string;
  fields: FieldSpec[];
  fixed?: Values;
  about?: ReactNode;
  /** Stands beside the button that sends it. */
  beside?: ReactNode;
  /** Why it cannot be sent. */
  why?: string;
}) {
  const go = useNavigate();
  const [initialValues] = useState<Values>(() =>
    Object.fromEntries(fields.map((f) => [f.name, f.initial ?? EMPTY[f.kind ?? "text"]])),
  );
  const visible = (values: Values) => fields.filter((f) => !f.when || f.when(values));
  const { form, sending, submit, unplaced } = useAsking({
    initialValues,
    shown: (values) => visible(values).map((f) => f.name),
    send: (values) => {
      // What may stay empty and has no usual value is not sent at all.
      const left = new Set(fields.filter((f) => f.optional && values[f.name] === "").map((f) => f.name));
      const said = Object.fromEntries(Object.entries(values).filter(([name]) => !left.has(name)));
      return drawUp(kind, { ...fixed, ...said });
    },
    onSuccess: (sheet) => go(`/changes/${sheet.id}`),
  });
  return (
    <form autoComplete="off" onSubmit={submit}>
      <Stack gap="sm">
        {about}
        {visible(form.values).map((field) => (
          <Field key={field.name} field={field} {...form.getInputProps(field.name)} />
        ))}
        <Trouble error={unplaced} />
        <Group>
          <Button type="submit" loading={sending.isPending} disabled={why !== undefined}>
            Draw up the change sheet
          </Button>
          {beside}
        </Group>
        {why && <Text className="faint">{why}</Text>}
      </Stack>
    </form>
  );
}

const EMPTY: Record<string, Value> = {
  text: "",
  number: 0,
  check: false,
  select: "",
  tags: [],
  volume: "",
  suggest: "",
};

function Field({
  field,
  value,
  error,
  onChange: set,
  onBlur,
  onFocus,
}: { field: FieldSpec } & ReturnType<UseFormReturnType<Values>["getInputProps"]>) {
  const common = {
    label: field.label,
    description: field.description,
    error,
    onBlur,
    onFocus,
    required: field.required,
  };
  switch (field.kind) {
    case "check":
      return (
        <Checkbox
          label={field.label}
          description={field.description}
          error={error}
          checked={Boolean(value)}
          onChange={(e) => set(e.currentTarget.checked)}
        />
      );
    case "number":
      return (
        <NumberInput
          {...common}
          value={value as number}
          onChange={(v) => set(typeof v === "number" ? v : Number(v) || 0)}
        />
      );
    case "select":
      return (
        <Select
          {...common}
          data={field.options}
          value={value as string}
          onChange={(v) => set(v ?? "")}
          allowDeselect={!field.required}
        />
      );
    case "tags":
      return (
        <TagsInput
          {...common}
          placeholder={field.placeholder}
          data={field.options as string[]}
          value={value as string[]}
          onChange={set}
          acceptValueOnBlur
        />
      );
    case "volume":
    case "bare volume":
      return <VolumePick {...common} bare={field.kind === "bare volume"} value={value as string} set={set} />;
    case "suggest":
      return (
        <Autocomplete
          {...common}
          placeholder={field.placeholder}
          data={field.options as string[]}
          value={value as string}
          onChange={set}
        />
      );
    default:
      return (
        <TextInput
          {...common}
          placeholder={field.placeholder}
          value={value as string}
          onChange={(e) => set(e.currentTarget.value)}
        />
      );
  }
}

/** A volume by a part of its name; however many there are. */
function VolumePick({
  value,
  set,
  bare,
  ...common
}: {
  /** Only those without a file system that no target serves yet. */
  bare: boolean;
  label: string;
  description?: string;
  error?: string;
  required?: boolean;
  value: string;
  set: (value: string) => void;
}) {
  const found = server.useQuery("get", "/api/volumes", {
    params: { query: { like: value, limit: 30, bare } },
  });
  return (
    <Autocomplete
      {...common}
      placeholder="pool/volume"
      value={value}
      onChange={set}
      data={(found.data?.volumes ?? []).map((v) => v.ref)}
      filter={({ options }) => options}
    />
  );
}
