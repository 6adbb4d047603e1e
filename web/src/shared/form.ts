/** A form that is sent to the server: its values, sent once however often it is clicked, refusals at their fields. */
import { type UseFormReturnType, useForm } from "@mantine/form";
import { type UseMutationResult, useMutation } from "@tanstack/react-query";
import { type FormEvent, useEffect, useRef } from "react";
import { Problem } from "../api/client";

export interface Asked<V, R> {
  form: UseFormReturnType<V>;
  sending: UseMutationResult<R, Error, V>;
  submit: (event?: FormEvent<HTMLFormElement>) => void;
  /** A refusal that belongs to no field that is shown. */
  unplaced: Error | null;
  /** How many fields have a refusal, for beside the button; null without any. */
  attention: string | null;
}

/** The first field of a form that says what is wrong with it has the focus, and is in sight. */
function leadTo(form: HTMLFormElement | null) {
  requestAnimationFrame(() => {
    const field = form?.querySelector<HTMLElement>("[aria-invalid=true]");
    field?.focus();
    field?.scrollIntoView({ block: "center" });
  });
}

export function useAsking<V extends Record<string, unknown>, R>({
  initialValues,
  validate,
  send,
  onSuccess,
  onSettled,
  shown,
}: {
  initialValues: V;
  /** What is said at a field before anything is sent. */
  validate?: { [Name in keyof V]?: (value: V[Name], values: V) => string | null };
  send: (values: V) => Promise<R>;
  onSuccess?: (answer: R, form: UseFormReturnType<V>) => void;
  onSettled?: (form: UseFormReturnType<V>) => void;
  /** The fields that are shown; all, if not said. */
  shown?: (values: V) => string[];
}): Asked<V, R> {
  const form = useForm<V>({
    initialValues,
    validate: (values) => {
      const found: Record<string, string | null> = {};
      for (const name in validate) found[name] = validate[name]?.(values[name], values) ?? null;
      return found;
    },
  });
  // A refusal may stand out of sight: whoever sent the form is led to the first field that has one.
  const sent = useRef<HTMLFormElement | null>(null);
  const refused = Object.keys(form.errors).length;
  const looked = useRef(0);
  useEffect(() => {
    if (refused > 0 && looked.current === 0) leadTo(sent.current);
    looked.current = refused;
  }, [refused]);
  // A second click comes before the button can show that the first is on its way.
  const asked = useRef(false);
  const placed = (error: unknown) => {
    const fields = shown ? shown(form.getValues()) : Object.keys(initialValues);
    return (error instanceof Problem && fields.find((f) => error.field === f)) || null;
  };
  const sending = useMutation<R, Error, V>({
    mutationFn: send,
    onSuccess: (answer) => onSuccess?.(answer, form),
    onSettled: (_, error) => {
      asked.current = false;
      onSettled?.(form);
      // Last, because a value that is set anew takes the refusal of its field away.
      const field = placed(error);
      if (error && field) form.setFieldError(field, error.message);
    },
  });
  const hand = form.onSubmit((values) => {
    if (asked.current) return;
    asked.current = true;
    looked.current = 0;
    sending.mutate(values);
  });
  const submit = (event?: FormEvent<HTMLFormElement>) => {
    sent.current = event?.currentTarget ?? null;
    looked.current = 0;
    hand(event);
  };
  const attention = refused ? `${refused} field${refused > 1 ? "s need" : " needs"} attention` : null;
  return {
    form,
    sending,
    submit,
    attention,
    unplaced: sending.error && !placed(sending.error) ? sending.error : null,
  };
}
