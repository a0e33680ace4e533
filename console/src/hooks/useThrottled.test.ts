import { act, renderHook } from "@testing-library/react";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { useThrottled } from "./useThrottled";

beforeEach(() => void vi.useFakeTimers());
afterEach(() => void vi.useRealTimers());

it("passes the last value on after the pause, and drops those between", () => {
  const { result, rerender } = renderHook(({ value }) => useThrottled(value, 1000), {
    initialProps: { value: "a" },
  });
  act(() => void vi.advanceTimersByTime(0));
  for (const value of ["b", "c"]) {
    rerender({ value });
    act(() => void vi.advanceTimersByTime(300));
  }
  expect(result.current).toBe("a");
  act(() => void vi.advanceTimersByTime(400));
  expect(result.current).toBe("c");
});
