import { render, screen } from "@testing-library/react";
import { describe, expect, it } from "vitest";
import type { Doc } from "../api/client";
import { Ago, clock, count, place, State, size, unitName } from "./text";

const locator = { heading_path: ["Rules", "Storms"] } as Parameters<typeof place>[1];

describe("numbers and times", () => {
  it("writes times of recordings as people read them", () => {
    expect(clock(123.9)).toBe("2:03");
    expect(clock(3723)).toBe("1:02:03");
  });

  it("writes sizes in decimal units", () => {
    expect([size(999), size(1500), size(2_340_000)]).toEqual(["999 B", "1.5 kB", "2.3 MB"]);
  });

  it("shows a dash for a count that is unknown", () => {
    expect([count(null), count(12_345)]).toEqual(["–", "12,345"]);
  });

  it("shows how long ago something happened", () => {
    render(<Ago at={new Date(Date.now() - 5 * 60_000).toISOString()} />);
    expect(screen.getByText("5 min ago")).toBeTruthy();
  });
});

describe("places", () => {
  it("leaves out the title and joins what is known", () => {
    const found = { ...locator, page: 3, label: "iii", unit: "page" } as typeof locator;
    expect(place("Rules", found)).toBe("page iii · Storms");
    expect(place("Rules", { ...locator, rows: [4, 4] } as typeof locator)).toBe("row 4 · Storms");
    expect(place("", { ...locator, seconds: 65 } as typeof locator)).toBe("1:05 · Rules › Storms");
  });

  it("names slides by number and sheets by name", () => {
    expect(unitName("slide", 2, "Agenda")).toBe("slide 2");
    expect(unitName("sheet", 2, "Fees")).toBe("sheet Fees");
  });
});

describe("the state of a document", () => {
  it("shows why it failed", () => {
    render(<State document={{ state: "failed", error: "no text layer" } as Doc} />);
    expect(screen.getByText("failed: no text layer")).toBeTruthy();
  });

  it("shows a bar while it is processed", () => {
    render(<State document={{ state: "reading", progress: 0.25 } as Doc} />);
    const bar = screen.getByLabelText<HTMLProgressElement>("reading");
    expect(bar.value).toBe(0.25);
  });
});
