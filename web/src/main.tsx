import "@fontsource-variable/instrument-sans/index.css";
import "@fontsource-variable/spline-sans-mono/index.css";
import "ol/ol.css";
import "./ui/tokens.css";
import "./desk/desk.css";
import "./desk/parts.css";
import { StyledEngineProvider, ThemeProvider } from "@mui/material";
import { QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { client } from "./api/queries";
import { App } from "./desk/App";
import { Failing } from "./desk/Failing";
import { theme } from "./ui/theme";

const root = document.getElementById("root");
if (root)
  createRoot(root).render(
    <StrictMode>
      <StyledEngineProvider injectFirst>
        <ThemeProvider theme={theme}>
          <QueryClientProvider client={client}>
            <Failing>
              <App />
            </Failing>
          </QueryClientProvider>
        </ThemeProvider>
      </StyledEngineProvider>
    </StrictMode>,
  );
