import { createTheme, type MantineColorsTuple } from "@mantine/core";

const pine: MantineColorsTuple = [
  "#edf4f0",
  "#dbe7e0",
  "#b4cfc1",
  "#8ab5a0",
  "#689f85",
  "#4d8a6e",
  "#35735a",
  "#265d48",
  "#1f4a3d",
  "#143329",
];
const rust: MantineColorsTuple = [
  "#fbefe8",
  "#f6e0d3",
  "#efc9b4",
  "#e7ac8d",
  "#ec9a70",
  "#d8804f",
  "#c66a38",
  "#b6572a",
  "#a3441e",
  "#7d3316",
];

/** Greys with the warmth of paper, and, for the dark, of lamp light. */
const gray: MantineColorsTuple = [
  "#fbf8f1",
  "#efe8d9",
  "#e4dac6",
  "#d9cfba",
  "#c4b89f",
  "#a3977f",
  "#7d7260",
  "#625a4b",
  "#463f33",
  "#26221b",
];
const dark: MantineColorsTuple = [
  "#ede3d0",
  "#d3c7b1",
  "#b8ab94",
  "#85785f",
  "#5a4d3a",
  "#463b2d",
  "#2f271d",
  "#2b241b",
  "#221c15",
  "#191410",
];

export const theme = createTheme({
  // Whoever asks their system for less movement gets none.
  respectReducedMotion: true,
  primaryColor: "pine",
  primaryShade: { light: 8, dark: 7 },
  colors: { pine, rust, gray, dark },
  white: "#fffdf8",
  black: "#26221b",
  fontFamily: "'Source Sans 3 Variable', 'Source Sans 3', sans-serif",
  fontFamilyMonospace: "ui-monospace, 'DejaVu Sans Mono', monospace",
  headings: { fontWeight: "600", fontFamily: "'Source Sans 3 Variable', sans-serif" },
  defaultRadius: "sm",
  cursorType: "pointer",
  fontSizes: { xs: "0.82rem", sm: "0.92rem", md: "1rem", lg: "1.15rem", xl: "1.35rem" },
  components: {
    // The cross of every dialog says what it does.
    Modal: { defaultProps: { closeButtonProps: { "aria-label": "Close" } } },
  },
});
