import { render, screen } from "@testing-library/react";
import { expect, test } from "vitest";
import { Interval, isOpen, RESULTS, ResultWord, shareText, type Trial } from "./parts";

const share = (count: number, of: number) => ({ count, of, low: 0.2, high: 0.9 });

test("a share is said with its counts, or not at all", () => {
  expect(shareText(share(3, 4))).toBe("75\u00a0% (3/4)");
  expect(shareText(share(0, 0))).toBe("–");
});

test("an interval is drawn from its low to its high end", () => {
  const { container, rerender } = render(<Interval share={share(1, 2)} />);
  expect(screen.getByRole("img").getAttribute("aria-label")).toBe(
    "95 % interval from 20\u00a0% to 90\u00a0%",
  );
  const [line] = container.querySelectorAll<HTMLElement>("[style]");
  expect(line!.style.left).toBe("20%");
  rerender(<Interval share={share(0, 0)} />);
  expect(screen.queryByRole("img")).toBeNull();
});

test("each result has a word", () => {
  for (const [result, { word }] of Object.entries(RESULTS)) {
    const { unmount } = render(<ResultWord result={result as keyof typeof RESULTS} />);
    expect(screen.getByText(word)).toBeTruthy();
    unmount();
  }
  render(<ResultWord result={null} />);
  expect(screen.getByText("not asked yet")).toBeTruthy();
});

test("only waiting and running trials change by themselves", () => {
  const open = ["waiting", "running", "paused", "stopped", "done"].filter((state) =>
    isOpen({ state } as Trial),
  );
  expect(open).toEqual(["waiting", "running"]);
});
