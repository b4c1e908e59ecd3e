import "@mantine/core/styles.css";
import "@mantine/notifications/styles.css";
import "@fontsource/ibm-plex-sans/latin-400.css";
import "@fontsource/ibm-plex-sans/latin-600.css";
import "@fontsource/ibm-plex-mono/latin-400.css";
import "./theme.css";
import { createTheme, MantineProvider, type MantineColorsTuple } from "@mantine/core";
import { Notifications } from "@mantine/notifications";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { Bench } from "./Bench";
import { JobList } from "../features/jobs/JobList";

const petrol: MantineColorsTuple = [
  "#e8f3f5",
  "#d3e5e9",
  "#a6cad2",
  "#76aebb",
  "#4f97a7",
  "#35889b",
  "#0f6274",
  "#0b5464",
  "#084654",
  "#053843",
];
const theme = createTheme({
  colors: { petrol },
  primaryColor: "petrol",
  primaryShade: { light: 6, dark: 6 },
  fontFamily: "'IBM Plex Sans', sans-serif",
  fontFamilyMonospace: "'IBM Plex Mono', monospace",
  defaultRadius: 2,
  fontSizes: { xs: "12px", sm: "13px", md: "14px" },
  components: {
    TextInput: { defaultProps: { size: "xs" } },
    NumberInput: { defaultProps: { size: "xs" } },
    Select: { defaultProps: { size: "xs" } },
    Checkbox: { defaultProps: { size: "xs" } },
    Button: { defaultProps: { size: "xs" } },
  },
});
const client = new QueryClient({ defaultOptions: { queries: { retry: 1, refetchOnWindowFocus: false } } });

// A file let go beside the field must not make the browser leave the page for the file.
for (const event of ["dragover", "drop"]) window.addEventListener(event, (e) => e.preventDefault());

createRoot(document.getElementById("root")!).render(
  <MantineProvider theme={theme} defaultColorScheme="auto">
    <Notifications position="bottom-right" />
    <QueryClientProvider client={client}>
      <BrowserRouter>
        <Routes>
          <Route path="/" element={<JobList />} />
          <Route path="/jobs/:id/:station?" element={<Bench />} />
          <Route path="*" element={<Navigate to="/" />} />
        </Routes>
      </BrowserRouter>
    </QueryClientProvider>
  </MantineProvider>,
);
