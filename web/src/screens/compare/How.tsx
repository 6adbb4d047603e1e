/** "How is this computed?": a figure that opens its formula, this layout's numbers in it, and the source. */
import { Popover, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { api, ask, type Schema } from "../../api/client";
import { Trouble, Waiting } from "../../shared/parts";
import { type Body, chosenBody, type Layout } from "./useQuestion";

export function How({
  figure,
  label,
  body,
  layout,
  children,
}: {
  figure: string;
  /** What the figure is, for those who hear the button instead of seeing it. */
  label: string;
  body: Body;
  layout: Layout;
  children: ReactNode;
}) {
  const [open, setOpen] = useState(false);
  const asked = chosenBody(body, layout);
  const cut = useQuery({
    queryKey: ["cut", asked],
    queryFn: () => ask(api.POST("/api/compare/cut", { body: asked })),
    enabled: open,
  });
  const found = cut.data?.explanations.find((e) => e.figure === figure);
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
          aria-label={`${label}: how is this computed?`}
          title="How is this computed?"
          onClick={(e) => {
            e.stopPropagation();
            setOpen((v) => !v);
          }}
        >
          {children}
        </button>
      </Popover.Target>
      <Popover.Dropdown onClick={(e) => e.stopPropagation()}>
        {cut.isError ? (
          <Trouble error={cut.error} />
        ) : !cut.data ? (
          <Waiting height={80} />
        ) : found ? (
          <Explained explanation={found} />
        ) : (
          <Text size="sm">There is nothing to compute: this layout has no such figure.</Text>
        )}
      </Popover.Dropdown>
    </Popover>
  );
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
