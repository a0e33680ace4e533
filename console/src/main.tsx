import "@fontsource-variable/inter";
import "@fontsource-variable/source-serif-4";
import "@fontsource/ibm-plex-mono";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { createRoot } from "react-dom/client";
import { App } from "./App";
import { themeOfAddress } from "./pages/chat/panel";
import "./theme.css";

/** The person's own choice; a frame on another site may have no storage. */
function storedTheme(): string | null {
  try {
    return localStorage.getItem("theme");
  } catch {
    return null;
  }
}

const wished =
  themeOfAddress() ??
  storedTheme() ??
  (matchMedia("(prefers-color-scheme: dark)").matches ? "night" : "fog");
document.documentElement.dataset.theme = wished;
/** The service reports errors at once: people decide whether to retry. */
const queries = new QueryClient({
  defaultOptions: { queries: { retry: false, refetchOnWindowFocus: false, networkMode: "always" } },
});

createRoot(document.getElementById("root")!).render(
  <QueryClientProvider client={queries}>
    <App />
  </QueryClientProvider>,
);
