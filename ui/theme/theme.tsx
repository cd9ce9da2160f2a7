"use client";

import { createTheme, type ThemeOptions } from "@mui/material/styles";
import type {} from "@mui/x-tree-view/themeAugmentation";
import { type ChartColours, DAY, NIGHT } from "./tokens";

declare module "@mui/material/styles" {
  interface Palette {
    chart: ChartColours;
  }
  interface PaletteOptions {
    chart: ChartColours;
  }
}

const palette = (colours: ChartColours, onStrong: string) => ({
  primary: { main: colours.depth5, dark: colours.ink, light: colours.depth4, contrastText: onStrong },
  secondary: { main: colours.mark, contrastText: onStrong },
  background: { default: colours.paper, paper: colours.sheet },
  text: { primary: colours.ink, secondary: colours.inkSoft },
  divider: colours.hairline,
  chart: colours,
});

const box = (checked: boolean, some = false) => (
  <svg width="14" height="14" viewBox="0 0 14 14" aria-hidden="true" focusable="false">
    <rect
      x="0.5"
      y="0.5"
      width="13"
      height="13"
      rx="2"
      fill={checked || some ? "var(--mui-palette-chart-mark)" : "var(--mui-palette-chart-sheet)"}
      stroke={checked || some ? "var(--mui-palette-chart-mark)" : "var(--mui-palette-chart-inkFaint)"}
    />
    {checked && <path d="M3.2 7.3 6 10l4.8-6" fill="none" stroke="var(--mui-palette-chart-sheet)" strokeWidth="1.8" />}
    {some && <path d="M3.5 7h7" stroke="var(--mui-palette-chart-sheet)" strokeWidth="1.8" />}
  </svg>
);

const ring = { outline: "2px solid var(--mui-palette-chart-depth4)", outlineOffset: 1 };
const hairline = "1px solid var(--mui-palette-chart-hairline)";

const options: ThemeOptions = {
  cssVariables: { colorSchemeSelector: "data" },
  colorSchemes: { light: { palette: palette(DAY, "#FFFFFF") }, dark: { palette: palette(NIGHT, "#0E1B22") } },
  shape: { borderRadius: 3 },
  spacing: 4,
  shadows: Array.from({ length: 25 }, () => "none") as never,
  typography: {
    fontFamily: "'Atkinson Hyperlegible Next Variable', sans-serif",
    fontSize: 13,
    htmlFontSize: 16,
    body1: { fontSize: 14, lineHeight: 1.45 },
    body2: { fontSize: 13, lineHeight: 1.45 },
    caption: { fontSize: 12, lineHeight: 1.4 },
    h1: { fontSize: 20, fontWeight: 650, lineHeight: 1.25, letterSpacing: "-0.005em" },
    h2: { fontSize: 15, fontWeight: 650, lineHeight: 1.3 },
    h3: { fontSize: 12.5, fontWeight: 600, lineHeight: 1.3 },
    button: { textTransform: "none", fontWeight: 600, fontSize: 13 },
  },
  transitions: {
    duration: { shortest: 80, shorter: 100, short: 120, standard: 140, complex: 180, enteringScreen: 140, leavingScreen: 120 },
  },
  components: {
    MuiButtonBase: { defaultProps: { disableRipple: true }, styleOverrides: { root: { "&.Mui-focusVisible": ring } } },
    MuiButton: {
      defaultProps: { disableElevation: true, size: "small" },
      styleOverrides: {
        root: { minWidth: 0, padding: "5px 12px", lineHeight: 1.5 },
        // Between the two depths: on the lighter one alone its words would stand out too little.
        contained: {
          "&:hover": { backgroundColor: "color-mix(in srgb, var(--mui-palette-chart-depth5), var(--mui-palette-chart-depth4))" },
        },
        outlined: {
          borderColor: "var(--mui-palette-chart-hairline)",
          color: "var(--mui-palette-chart-ink)",
          backgroundColor: "var(--mui-palette-chart-sheet)",
          "&:hover": { borderColor: "var(--mui-palette-chart-inkFaint)", backgroundColor: "var(--mui-palette-chart-paper)" },
        },
        text: {
          padding: "5px 6px",
          textDecoration: "underline",
          textUnderlineOffset: 3,
          textDecorationThickness: 1,
          "&:hover": { backgroundColor: "transparent", textDecorationThickness: 2 },
        },
      },
    },
    MuiCheckbox: {
      defaultProps: { icon: box(false), checkedIcon: box(true), indeterminateIcon: box(false, true), size: "small" },
      styleOverrides: { root: { padding: 4 } },
    },
    MuiOutlinedInput: {
      styleOverrides: {
        root: {
          backgroundColor: "var(--mui-palette-chart-sheet)",
          "& .MuiOutlinedInput-notchedOutline": { borderColor: "var(--mui-palette-chart-hairline)" },
          "&.Mui-focused .MuiOutlinedInput-notchedOutline": {
            borderWidth: 1,
            borderColor: "var(--mui-palette-chart-depth4)",
            boxShadow: "0 0 0 2px var(--mui-palette-chart-depth1)",
          },
        },
        input: { padding: "6px 10px", fontSize: 13.5, height: "1.4em" },
      },
    },
    MuiInputLabel: { styleOverrides: { root: { fontSize: 12.5 } } },
    MuiDialog: { styleOverrides: { paper: { border: hairline, backgroundImage: "none" } } },
    MuiDialogTitle: { styleOverrides: { root: { fontSize: 16, fontWeight: 650, padding: "16px 20px 8px" } } },
    MuiPaper: { styleOverrides: { root: { backgroundImage: "none" } } },
    MuiPopover: { styleOverrides: { paper: { border: hairline, borderBottomWidth: 2, marginTop: 4 } } },
    MuiMenuItem: {
      styleOverrides: {
        root: {
          fontSize: 13,
          minHeight: 28,
          padding: "4px 12px",
          "&.Mui-selected, &.Mui-selected:hover": { backgroundColor: "var(--mui-palette-chart-depth1)" },
        },
      },
    },
    MuiTooltip: {
      defaultProps: { enterDelay: 350 },
      styleOverrides: {
        tooltip: {
          backgroundColor: "var(--mui-palette-chart-ink)",
          color: "var(--mui-palette-chart-paper)",
          fontSize: 12,
          padding: "4px 8px",
        },
      },
    },
    MuiLinearProgress: {
      styleOverrides: {
        root: { height: 4, backgroundColor: "var(--mui-palette-chart-depth2)" },
        bar: { backgroundColor: "var(--mui-palette-chart-depth4)" },
      },
    },
    MuiTableCell: {
      styleOverrides: {
        root: { fontSize: 13, padding: "5px 10px 5px 0", borderBottom: "1px solid var(--mui-palette-chart-hairlineSoft)" },
        head: { fontSize: 12, fontWeight: 500, color: "var(--mui-palette-chart-inkSoft)", borderBottom: hairline },
      },
    },
    MuiTreeItem: {
      styleOverrides: {
        content: {
          borderRadius: 0,
          // Each level of the tree stands further in.
          padding: "6px 14px 6px calc(8px + var(--TreeView-itemChildrenIndentation) * var(--TreeView-itemDepth))",
          gap: 4,
          "&[data-selected], &[data-selected]:hover, &[data-selected][data-focused]": {
            backgroundColor: "var(--mui-palette-chart-depth1)",
          },
          "&:hover": { backgroundColor: "var(--mui-palette-chart-hairlineSoft)" },
          "&[data-focused]": { ...ring, outlineOffset: -2, backgroundColor: "transparent" },
        },
        iconContainer: { width: 14, color: "var(--mui-palette-chart-inkSoft)" },
        label: { fontSize: 13.5, lineHeight: 1.35 },
      },
    },
    MuiSnackbarContent: {
      styleOverrides: {
        root: {
          backgroundColor: "var(--mui-palette-chart-ink)",
          color: "var(--mui-palette-chart-paper)",
          fontSize: 13,
          padding: "4px 14px",
        },
      },
    },
    MuiLink: { styleOverrides: { root: { textUnderlineOffset: 3 } } },
  },
};

export const theme = createTheme(options);
