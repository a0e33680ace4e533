import "@fontsource-variable/inter";
import "@fontsource-variable/source-serif-4";
import "@fontsource/ibm-plex-mono";
import { createRoot } from "react-dom/client";
import { App } from "./App";
import "./theme.css";

const wished = localStorage.getItem("theme") ?? (matchMedia("(prefers-color-scheme: dark)").matches ? "night" : "fog");
document.documentElement.dataset.theme = wished;
createRoot(document.getElementById("root")!).render(<App />);
