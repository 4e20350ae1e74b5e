// @vitest-environment jsdom
import { cleanup, render } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { Findings } from "../../stages/Findings";
import { Sentence } from "../Sentence";

afterEach(cleanup);

describe("sentences of the core", () => {
  it("get their figures grouped and set as figures", () => {
    const { container } = render(<Sentence text="The first is at E 5435825 N 448989, up to 1.81 m." />);
    expect(container.textContent).toBe("The first is at E 5\u00a0435\u00a0825 N 448\u00a0989, up to 1.81 m.");
    expect(container.querySelectorAll(".n")).toHaveLength(3);
  });
  it("leave what they quote to the letter", () => {
    const { container } = render(<Sentence text="The first is row 5: '62,3870;-41,2110;oops'. They are left out." />);
    expect(container.textContent).toContain("'62,3870;-41,2110;oops'");
  });
  it("leave codes and names as they are", () => {
    const { container } = render(<Sentence text="They are put into EPSG:32741 by points1.csv." />);
    expect(container.textContent).toBe("They are put into EPSG:32741 by points1.csv.");
  });
});

describe("findings", () => {
  it("offer their mend in one press", () => {
    let set: unknown = null;
    const finding = {
      code: "strays",
      weight: "caution" as const,
      sentence: "1 point lies far outside the frame.",
      why: "",
      fix: { label: "Leave out", set_params: { stray_points: "leave_out" } },
      places: [],
      answers: [],
    };
    const { getByRole, getByText } = render(
      <Findings
        findings={[finding]}
        onFix={(change) => {
          set = change;
        }}
      />,
    );
    expect(getByText("Caution.")).toBeTruthy();
    getByRole("button", { name: "Leave out" }).click();
    expect(set).toEqual({ stray_points: "leave_out" });
  });
});
