/** "How is this computed?": a figure that opens its formula, this layout's numbers in it, and the source. */
import { Popover, Text } from "@mantine/core";
import { type ReactNode, useState } from "react";
import { type Schema, server } from "../../api/client";
import { Trouble, Waiting } from "../../shared/parts";
import { type Body, chosenBody, type Layout } from "./useQuestion";

interface Props {
  figure: string;
  /** What the figure is, for those who hear the button instead of seeing it. */
  label: string;
  body: Body;
  layout: Layout;
  children: ReactNode;
}

/** The same where the explanation is there already. */
export function HowShown({
  explanation,
  children,
}: {
  explanation?: Schema["ExplanationOut"];
  children: ReactNode;
}) {
  const [open, setOpen] = useState(false);
  if (!explanation) return children;
  return (
    <Popover
      opened={open}
      onChange={setOpen}
      width={380}
      withArrow
      shadow="md"
      withinPortal
      trapFocus={false}
    >
      <Popover.Target>
        <button
          type="button"
          className="figure"
          aria-expanded={open}
          aria-label={`${explanation.title}: how is this computed?`}
          title="How is this computed?"
          onClick={() => setOpen((v) => !v)}
        >
          {children}
        </button>
      </Popover.Target>
      <Popover.Dropdown>
        <Explained explanation={explanation} />
      </Popover.Dropdown>
    </Popover>
  );
}

/** Hundreds of these stand on a page: only the one that is opened is more than a button. */
export function How({ figure, label, body, layout, children }: Props) {
  const [open, setOpen] = useState(false);
  const button = (
    <button
      type="button"
      className="figure"
      aria-expanded={open}
      aria-label={`${label}: how is this computed?`}
      title="How is this computed?"
      onClick={(e) => {
        e.stopPropagation();
        setOpen((v) => !v);
      }}
    >
      {children}
    </button>
  );
  if (!open) return button;
  return (
    <Popover opened onChange={setOpen} width={380} withArrow shadow="md" withinPortal trapFocus={false}>
      <Popover.Target>{button}</Popover.Target>
      <Popover.Dropdown onClick={(e) => e.stopPropagation()}>
        <Answer figure={figure} body={body} layout={layout} />
      </Popover.Dropdown>
    </Popover>
  );
}

function Answer({ figure, body, layout }: Pick<Props, "figure" | "body" | "layout">) {
  const asked = chosenBody(body, layout);
  const cut = server.useQuery("post", "/api/compare/cut", { body: asked });
  if (cut.isLoadingError) return <Trouble error={cut.error} />;
  if (!cut.data) return <Waiting height={80} />;
  const found = cut.data.explanations.find((e) => e.figure === figure);
  if (!found) return <Text size="sm">There is nothing to compute: this layout has no such figure.</Text>;
  return <Explained explanation={found} />;
}

function Explained({ explanation }: { explanation: Schema["ExplanationOut"] }) {
  return (
    <div style={{ whiteSpace: "normal", textAlign: "left" }}>
      <Text fw={600} size="sm">
        {explanation.title}
      </Text>
      <Text size="sm" mt={4} fs="italic">
        {explanation.formula}
      </Text>
      <Text size="sm" mt={6}>
        {explanation.numbers}
      </Text>
      <Text size="xs" c="dimmed" mt={6}>
        {explanation.source}
      </Text>
    </div>
  );
}
