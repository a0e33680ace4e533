import { useEffect, useState } from "react";

/** The link's secret in the address, and the token of who the guest is. */
export function guestOfAddress(): { secret: string; visitor: string | null } | null {
  const [secret = "", ...rest] = location.hash.slice(1).split("&");
  if (!secret.startsWith("dl_")) return null;
  return { secret, visitor: new URLSearchParams(rest.join("&")).get("visitor") };
}

/** Whether the chat is in the panel of another site, which shows its name and a button to close. */
export const inPanel = () => new URLSearchParams(location.hash.slice(1)).has("panel");

/** The theme that the site with the panel asks for, if it does. */
export function themeOfAddress(): "night" | "fog" | null {
  const theme = new URLSearchParams(location.hash.slice(1)).get("theme");
  return theme === "dark" ? "night" : theme === "light" ? "fog" : null;
}

/** Tells the site around the panel something; which sites there may be is the desk's setting. */
export function sayToSite(type: string) {
  if (parent !== window) parent.postMessage({ type }, "*");
}

/** In a panel: Escape closes it, and the site may replace the guest's token. */
export function usePanel(first: string | null): string | null {
  const [visitor, setVisitor] = useState(first);
  useEffect(() => {
    if (parent === window) return;
    const onKey = (event: KeyboardEvent) => {
      const inside = event.defaultPrevented || document.querySelector("dialog[open]");
      if (event.key === "Escape" && !inside) sayToSite("fontanel:close");
    };
    const onMessage = (event: MessageEvent) => {
      if (event.source !== parent || event.data?.type !== "fontanel:visitor") return;
      if (typeof event.data.token === "string") setVisitor(event.data.token);
    };
    addEventListener("keydown", onKey);
    addEventListener("message", onMessage);
    return () => {
      removeEventListener("keydown", onKey);
      removeEventListener("message", onMessage);
    };
  }, []);
  return visitor;
}
