// @vitest-environment jsdom
import { cleanup, render, screen } from "@testing-library/react";
import { afterEach, expect, it, vi } from "vitest";
import { Failing } from "../Failing";

afterEach(cleanup);

function Broken(): never {
  throw new Error("no such layer");
}

it("says what failed instead of an empty page", () => {
  vi.spyOn(console, "error").mockImplementation(() => undefined);
  render(
    <Failing>
      <Broken />
    </Failing>,
  );
  expect(screen.getByRole("alert").textContent).toContain("no such layer");
  expect(screen.getByRole("button", { name: "Open the desk again" })).toBeTruthy();
});
