import { fireEvent, render, screen } from "@testing-library/react";
import { expect, test, vi } from "vitest";
import { Assignee, type Gap, kinds, Weeks } from "./parts";

test("a gap says why its questions are in it", () => {
  const gap = { declined: 3, weak: 0, unhelpful: 1 } as Gap;
  expect(kinds(gap)).toBe("3 declined, 1 unhelpful");
});

test("the weeks are bars, the highest the fullest", () => {
  const { container } = render(<Weeks weeks={[0, 2, 4]} />);
  expect(screen.getByRole("img").getAttribute("aria-label")).toBe(
    "Questions in the last 3 weeks: 0, 2, 4",
  );
  const heights = [...container.querySelectorAll<HTMLElement>("[style]")].map(
    (bar) => bar.style.height,
  );
  expect(heights).toEqual(["10%", "60%", "100%"]);
});

test("somebody is assigned when the field is left, and only then", () => {
  const onChange = vi.fn();
  render(<Assignee value="I. Varda" onChange={onChange} />);
  const field = screen.getByLabelText("Assigned to");
  fireEvent.blur(field);
  expect(onChange).not.toHaveBeenCalled();
  fireEvent.change(field, { target: { value: "" } });
  fireEvent.blur(field);
  expect(onChange).toHaveBeenCalledWith("");
});
