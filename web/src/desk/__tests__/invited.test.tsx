// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { Members } from "../../stages/gather/Members";
import { type Asked, draw, service } from "../../testing/render";
import { Invited, invitedBy } from "../Invited";
import { PasswordDialog } from "../PasswordDialog";

afterEach(cleanup);
const bodies = (asked: Asked[], path: string) =>
  asked.filter((one) => one.method === "POST" && one.path === path).map((one) => one.body);
const type = (label: RegExp | string, value: string) =>
  fireEvent.change(screen.getByLabelText(label), { target: { value } });
const me = { id: 1, name: "Ines Marr", initials: "IM", has_password: true };

describe("an invitation", () => {
  const told = { project: "Avel", role: "editor", invited_by: "Ines Marr" };

  it("is known by its address", () => {
    expect(invitedBy("/invited/abc-DEF_123")).toBe("abc-DEF_123");
    expect(invitedBy("/projects/3")).toBeNull();
  });

  it("lets somebody new make an account", async () => {
    const asked = service({
      "GET /invitations/t": told,
      "POST /invitations/t/accept": { project_id: 4 },
    });
    const open = vi.fn();
    draw(<Invited token="t" me={null} open={open} />);
    expect(await screen.findByText(/Ines Marr invites you as editor/)).toBeTruthy();
    const go = screen.getByRole("button", { name: "Come in" }) as HTMLButtonElement;
    expect(go.disabled).toBe(true);
    type("User name", "mire");
    type("Your name", "Mire Sand");
    type(/^Password/, "a fine long word");
    fireEvent.click(go);
    await waitFor(() => expect(open).toHaveBeenCalledWith(4));
    expect(bodies(asked, "/invitations/t/accept")).toEqual([
      { new: { name: "mire", full_name: "Mire Sand", password: "a fine long word" } },
    ]);
  });

  it("takes somebody who is signed in as who they are, and says what is wrong", async () => {
    const asked = service({
      "GET /invitations/t": told,
      "POST /invitations/t/accept": () => new Response(JSON.stringify({ detail: "It was used." }), { status: 404 }),
    });
    draw(<Invited token="t" me={me} open={() => undefined} />);
    fireEvent.click(await screen.findByRole("button", { name: "Come in" }));
    expect((await screen.findByRole("alert")).textContent).toBe("It was used.");
    expect(bodies(asked, "/invitations/t/accept")).toEqual([{}]);
  });

  it("leads nowhere where it was used", async () => {
    service({
      "GET /invitations/t": () => new Response(JSON.stringify({ detail: "Ask for another." }), { status: 404 }),
    });
    draw(<Invited token="t" me={null} open={() => undefined} />);
    expect((await screen.findByRole("alert")).textContent).toBe("Ask for another.");
    expect(screen.queryByRole("button", { name: "Come in" })).toBeNull();
  });

  it("is made by an owner, shown once, and taken back", async () => {
    let open: object[] = [];
    const one = { id: 3, role: "editor", created_by: "Ines", expires_at: "2026-12-06T10:00:00Z" };
    const asked = service({
      "GET /projects/1/members": [],
      "GET /projects/1/invitations": () => open,
      "POST /projects/1/invitations": () => {
        open = [one];
        return { ...one, path: "/invited/secret" };
      },
      "DELETE /projects/1/invitations/3": () => {
        open = [];
        return {};
      },
    });
    draw(<Members />, { role: "owner" });
    fireEvent.click(await screen.findByRole("button", { name: "Make a link" }));
    const link = (await screen.findByLabelText("The link")) as HTMLInputElement;
    expect(link.value).toBe(`${location.origin}/invited/secret`);
    expect(screen.getByText(/until Sunday/)).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Take back the invitation as editor" }));
    await waitFor(() => expect(screen.queryByLabelText("The link")).toBeNull());
    expect(bodies(asked, "/projects/1/invitations")).toEqual([{ role: "editor" }]);
  });
});

describe("a password", () => {
  it("is changed by who knows it", async () => {
    const asked = service({ "POST /accounts/password": () => new Response(null, { status: 204 }) });
    draw(<PasswordDialog me={me} onClose={() => undefined} />);
    type("Until now", "the old one");
    type(/^New/, "a new long word");
    fireEvent.click(screen.getByRole("button", { name: "Change" }));
    expect((await screen.findByRole("status")).textContent).toContain("Changed.");
    expect(bodies(asked, "/accounts/password")).toEqual([{ now: "the old one", new: "a new long word" }]);
  });

  it("is set by who came by a link, and what is wrong with it is said", async () => {
    service({
      "POST /accounts/password": () => new Response(JSON.stringify({ detail: "It is too short." }), { status: 422 }),
    });
    draw(<PasswordDialog me={{ ...me, has_password: false }} onClose={() => undefined} />);
    expect(screen.queryByLabelText("Until now")).toBeNull();
    type(/^New/, "tiny");
    fireEvent.click(screen.getByRole("button", { name: "Set" }));
    expect((await screen.findByRole("alert")).textContent).toBe("It is too short.");
  });
});
