/**
 * Shows a desk's chat as a panel on another site: a button, and a frame that it opens.
 *
 * Everything is in the closed shadow root of one element, so that neither the page's styles and
 * scripts reach the chat, nor the chat's reach the page. No dependency, and nothing that a strict
 * Content-Security-Policy forbids: the page allows this script (script-src) and its frame (frame-src).
 */

interface Desk {
  id: string;
  name: string;
  symbol: string;
  colour: string;
  origin: string;
}

// The service replaces the text by the desk.
const desk = "%DESK%" as unknown as Desk;
const script = document.currentScript as HTMLScriptElement | null;

/** Accent and its ink, in light and dark, as in the console's themes. */
const COLOURS: Record<string, [string, string, string, string]> = {
  harbour: ["#0b5566", "#ffffff", "#6cc0cc", "#0f171c"],
  moss: ["#3f7a52", "#ffffff", "#7fc294", "#0f171c"],
  rust: ["#a2392b", "#ffffff", "#e58b7d", "#0f171c"],
  sand: ["#8f5609", "#ffffff", "#e0a64f", "#0f171c"],
  slate: ["#5a6b76", "#ffffff", "#93a5ae", "#0f171c"],
  ink: ["#15232d", "#ffffff", "#e4ecee", "#172229"],
};

const STYLE = `
.open, .panel { font: 16px/1.4 system-ui, sans-serif; color-scheme: light dark;
  --accent: light-dark(var(--a), var(--c)); --on-accent: light-dark(var(--b), var(--d)); }
:host([data-theme="light"]) :is(.open, .panel) { color-scheme: light; }
:host([data-theme="dark"]) :is(.open, .panel) { color-scheme: dark; }
button { all: unset; box-sizing: border-box; cursor: pointer; font: inherit; }
button:focus-visible { outline: 3px solid var(--accent); outline-offset: 3px; }
.open { display: flex; align-items: center; gap: 10px; padding: 12px 18px; border-radius: 999px;
  background: var(--accent); color: var(--on-accent); font-weight: 600;
  box-shadow: 0 4px 16px rgb(0 0 0 / .25); }
.panel { position: fixed; inset: auto 20px 20px auto; width: min(420px, calc(100vw - 40px));
  height: min(680px, calc(100vh - 40px)); display: flex; flex-direction: column; overflow: hidden;
  border-radius: 14px; border: 1px solid light-dark(#cdd9dc, #2a3942);
  background: light-dark(#edf2f3, #0f171c); color: light-dark(#15232d, #e4ecee);
  box-shadow: 0 12px 40px rgb(0 0 0 / .3); }
:host([data-side="left"]) .panel { inset: auto auto 20px 20px; }
.panel[hidden], .open[hidden] { display: none; }
.bar { display: flex; align-items: center; justify-content: flex-end; padding: 4px;
  background: var(--accent); color: var(--on-accent); }
.bar span { flex: 1; padding-left: 12px; font-weight: 600; overflow: hidden; text-overflow: ellipsis;
  white-space: nowrap; }
.close { padding: 6px 14px; border-radius: 8px; }
.close:focus-visible { outline-color: var(--on-accent); outline-offset: -3px; }
iframe { flex: 1; border: 0; width: 100%; background: transparent; }
@media (max-width: 480px) {
  .panel, :host([data-side="left"]) .panel { inset: 0; width: 100%; height: 100%; border: 0;
    border-radius: 0; }
}
`;

/** What no style of the page may change. */
const OWN = { all: "initial", display: "block", position: "fixed", "z-index": "2147483000" };

function element<Name extends keyof HTMLElementTagNameMap>(
  name: Name,
  properties: Partial<HTMLElementTagNameMap[Name]>,
  attributes: Record<string, string> = {},
): HTMLElementTagNameMap[Name] {
  const made = Object.assign(document.createElement(name), properties);
  for (const [key, value] of Object.entries(attributes)) made.setAttribute(key, value);
  return made;
}

/** The button and the panel. A page can call `show` and `hide`, and set `visitor` to a new token. */
class ChatPanel extends HTMLElement {
  #frame: HTMLIFrameElement | null = null;
  #link = "";
  #visitor = "";
  #opener = element("button", { type: "button", className: "open" }, { "aria-expanded": "false" });
  #panel = element("div", { className: "panel", hidden: true });

  connectedCallback() {
    if (this.#link) return; // it was moved
    this.#link = script?.dataset.link ?? "";
    this.#visitor = script?.dataset.visitor ?? "";
    for (const name of ["theme", "side"] as const) {
      const value = script?.dataset[name];
      if (value) this.dataset[name] = value;
    }
    // The page's styles reach this element, so what matters is set where none can override it.
    const side = this.dataset.side === "left" ? "left" : "right";
    for (const [name, value] of Object.entries({ ...OWN, bottom: "20px", [side]: "20px" }))
      this.style.setProperty(name, value, "important");
    const root = this.attachShadow({ mode: "closed" });
    const style = new CSSStyleSheet();
    const [a, b, c, d] = COLOURS[desk.colour] ?? COLOURS.harbour!;
    style.replaceSync(`:host { --a: ${a}; --b: ${b}; --c: ${c}; --d: ${d}; }${STYLE}`);
    root.adoptedStyleSheets = [style];
    const label = script?.dataset.label ?? `Ask ${desk.name}`;
    this.#opener.textContent = desk.symbol ? `${desk.symbol}  ${label}` : label;
    this.#opener.setAttribute("aria-label", label);
    this.#opener.onclick = () => this.show();
    this.#panel.setAttribute("role", "dialog");
    this.#panel.setAttribute("aria-label", desk.name);
    const close = element("button", { type: "button", className: "close", textContent: "Close" });
    close.onclick = () => this.hide();
    const bar = element("div", { className: "bar" });
    bar.append(element("span", { textContent: desk.name }, { "aria-hidden": "true" }), close);
    this.#panel.append(bar);
    this.#panel.onkeydown = (event) => {
      if (event.key === "Escape") this.hide();
    };
    root.append(this.#opener, this.#panel);
    addEventListener("message", this.#onMessage);
  }

  /** Open the panel, and move the focus into the chat. */
  show() {
    this.toggleAttribute("open", true);
    this.#panel.hidden = false;
    this.#opener.hidden = true;
    this.#opener.setAttribute("aria-expanded", "true");
    if (this.#frame === null) {
      const theme = this.dataset.theme ? `&theme=${this.dataset.theme}` : "";
      const visitor = this.#visitor ? `&visitor=${encodeURIComponent(this.#visitor)}` : "";
      // After the number sign, so that it is not sent to servers or logged.
      const src = `${desk.origin}/chat/${desk.id}#${this.#link}&panel=1${visitor}${theme}`;
      this.#frame = element("iframe", { title: desk.name, src });
      this.#panel.append(this.#frame);
    }
    this.#frame.focus();
  }

  /** Close the panel; the conversation stays. */
  hide() {
    this.toggleAttribute("open", false);
    this.#panel.hidden = true;
    this.#opener.hidden = false;
    this.#opener.setAttribute("aria-expanded", "false");
    this.#opener.focus();
  }

  /** Replace the token that says who the visitor is, before it expires. */
  set visitor(token: string) {
    this.#visitor = token;
    this.#frame?.contentWindow?.postMessage({ type: "fontanel:visitor", token }, desk.origin);
  }

  #onMessage = (event: MessageEvent) => {
    if (event.origin !== new URL(desk.origin).origin || event.source !== this.#frame?.contentWindow)
      return;
    if (event.data?.type === "fontanel:close") this.hide();
    if (event.data?.type === "fontanel:visitor-expired")
      this.dispatchEvent(new Event("visitorexpired"));
  };
}

if (!customElements.get("fontanel-chat")) {
  customElements.define("fontanel-chat", ChatPanel);
  const add = () => document.body.append(document.createElement("fontanel-chat"));
  if (document.body) add();
  else addEventListener("DOMContentLoaded", add, { once: true });
}
