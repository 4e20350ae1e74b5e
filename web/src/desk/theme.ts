import { createTheme } from "@mui/material";

/** MUI dressed in paper and ink; the desk's own parts take the same colours from desk.css. */
export const theme = createTheme({
  palette: {
    primary: { main: "#1B6470" },
    error: { main: "#9C2B2B" },
    warning: { main: "#9A6B00" },
    success: { main: "#4A7438" },
    background: { default: "#F5F3EC", paper: "#FCFBF7" },
    text: { primary: "#1F2A30", secondary: "#5E6A70" },
    divider: "#DAD6CA",
  },
  shape: { borderRadius: 4 },
  shadows: Array(25).fill("none") as never,
  typography: {
    fontFamily: '"Instrument Sans Variable", system-ui, sans-serif',
    fontSize: 13,
    button: { textTransform: "none", fontWeight: 600 },
  },
  transitions: { create: () => "none" },
  components: {
    MuiButtonBase: { defaultProps: { disableRipple: true } },
    MuiPaper: { styleOverrides: { root: { border: "1px solid #C9C4B6", backgroundImage: "none" } } },
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
        icon: { fontSize: 18, right: 4, color: "#5E6A70" },
      },
    },
  },
});
