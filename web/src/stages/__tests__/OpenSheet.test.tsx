// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { act } from "react";
import { afterEach, describe, expect, it } from "vitest";
import { client } from "../../api/queries";
import { useDesk } from "../../desk/store";
import { draw, service, surface } from "../../testing/render";
import { OpenSheet } from "../deliver/OpenSheet";

afterEach(() => {
  cleanup();
  client.clear();
});

const opened = (id: number, file: string) => ({
  id,
  holding_id: 1,
  name: "Lidar",
  wmts: `http://here/open/t${id}/1.0.0/WMTSCapabilities.xml`,
  file,
  created_at: "2026-11-26T00:00:00Z",
});
const base = { "GET /projects/1/holdings": [surface(2, "Plover 30"), surface(1, "Lidar")] };

describe("opening a surface to other programs", () => {
  it("opens the one in A as it is dressed, shows its addresses, and closes it", async () => {
    const asked = service({
      ...base,
      "GET /projects/1/shares": [opened(7, "http://here/open/t7/surface.tif"), opened(8, "")],
      "POST /projects/1/shares": opened(9, ""),
      "DELETE /projects/1/shares/7": new Response(null, { status: 204 }),
    });
    draw(<OpenSheet />);
    act(() => useDesk.setState({ slots: { a: "key1", b: null } }));
    await waitFor(() => expect(screen.getByRole("combobox", { name: "Surface" }).textContent).toBe("Lidar"));
    fireEvent.click(screen.getByRole("button", { name: "Open it" }));
    await waitFor(() => expect(asked.find(({ method }) => method === "POST")?.body).toMatchObject({ holding: 1 }));
    const dress = { low: 0, high: 600, azimuth: 315, lit: true, stops: expect.any(Array) };
    expect(asked.find(({ method }) => method === "POST")?.body).toMatchObject({ dress });
    const addresses = await screen.findAllByLabelText("WMTS address");
    expect((addresses[0] as HTMLInputElement).value).toContain("/open/t7/");
    expect(screen.getAllByLabelText("Cells address")).toHaveLength(1);
    expect(screen.getByText(/no file until it is stored/)).toBeTruthy();
    fireEvent.click(screen.getAllByRole("button", { name: "Close" })[0] as HTMLElement);
    await waitFor(() => expect(asked.some(({ method }) => method === "DELETE")).toBe(true));
  });

  it("is not for viewers, and says why it was refused", async () => {
    service({ ...base, "GET /projects/1/shares": [] });
    draw(<OpenSheet />, { role: "viewer" });
    expect(await screen.findByText(/Only editors and owners/)).toBeTruthy();
    cleanup();
    draw(<OpenSheet />);
    fireEvent.click(await screen.findByRole("button", { name: "Open it" }));
    expect((await screen.findByRole("alert")).textContent).toContain("nothing at");
  });
});
