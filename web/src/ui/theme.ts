import { createTheme } from "@mui/material";
import TOKENS from "./tokens.css?raw";

/** The value of a token. */
export function token(name: string): string {
  const found = new RegExp(`--${name}:\\s*([^;]+);`).exec(TOKENS)?.[1];
  if (!found) throw new Error(`there is no token ${name}`);
  return found.trim();
}

/** MUI dressed in paper and ink. */
export const theme = createTheme({
  palette: {
    primary: { main: token("lake") },
    error: { main: token("oxblood") },
    warning: { main: token("ochre") },
    success: { main: token("moss") },
    background: { default: token("paper"), paper: token("sheet") },
    text: { primary: token("ink"), secondary: token("muted") },
    divider: token("hair"),
  },
  shape: { borderRadius: Number.parseInt(token("r"), 10) },
  shadows: Array(25).fill("none") as never,
  typography: {
    fontFamily: token("sans"),
    fontSize: 13,
    button: { textTransform: "none", fontWeight: 600 },
  },
  transitions: { create: () => "none" },
  components: {
    MuiButtonBase: { defaultProps: { disableRipple: true } },
    MuiPaper: { styleOverrides: { root: { border: `1px solid ${token("hair2")}`, backgroundImage: "none" } } },
    MuiMenuItem: { styleOverrides: { root: { fontSize: 12.5, minHeight: 28, padding: "3px 12px" } } },
    MuiMenu: { defaultProps: { transitionDuration: 0 } },
    MuiPopover: { defaultProps: { transitionDuration: 0 } },
    MuiSelect: {
      styleOverrides: {
        select: {
          fontSize: 12.5,
          padding: "0 26px 0 8px",
          lineHeight: "24px",
          minHeight: 0,
          ":focus": { background: "none" },
        },
        icon: { fontSize: 18, right: 4, color: token("muted") },
      },
    },
    MuiInputBase: {
      styleOverrides: {
        root: { display: "flex", font: "inherit", color: "inherit" },
        input: { height: "auto", padding: 0, font: "inherit" },
      },
    },
    MuiCheckbox: {
      defaultProps: { disableRipple: true },
      styleOverrides: { root: { padding: 0, color: token("muted"), "& svg": { width: 13, height: 13 } } },
    },
    MuiRadio: {
      defaultProps: { disableRipple: true },
      styleOverrides: {
        root: {
          padding: 0,
          color: token("muted"),
          "& svg": { width: 13, height: 13 },
          "&.unseen": { position: "absolute", inset: 0, opacity: 0, "& input": { inset: 0 } },
        },
      },
    },
    MuiSwitch: {
      styleOverrides: {
        root: { width: 28, height: 16, padding: 0, overflow: "visible" },
        switchBase: {
          padding: 2,
          "&.Mui-checked": { transform: "translateX(12px)", color: token("on-lake") },
          "&.Mui-checked + .MuiSwitch-track": { opacity: 1, backgroundColor: token("lake") },
        },
        thumb: { width: 12, height: 12 },
        track: { borderRadius: 8, opacity: 1, backgroundColor: token("off") },
      },
    },
    MuiSlider: {
      defaultProps: { size: "small" },
      styleOverrides: { thumb: { width: 12, height: 12 }, rail: { color: token("hair2"), opacity: 1 } },
    },
  },
});
