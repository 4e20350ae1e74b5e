// @vitest-environment jsdom
import { cleanup, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { useHeld } from "../../desk/context";
import { draw, job, service, surface } from "../../testing/render";
import { ApiError, bytes, call } from "../client";
import { useJobs } from "../queries";

afterEach(() => {
  cleanup();
  vi.useRealTimers();
});

describe("asking the service", () => {
  it("echoes the cookie's token and gives the service's sentence on refusal", async () => {
    Object.defineProperty(document, "cookie", { value: "a=1; csrftoken=tok", configurable: true });
    const asked = service({
      "POST /projects": () =>
        new Response(JSON.stringify({ detail: "The cell size must be greater than 0." }), { status: 422 }),
    });
    await expect(call("POST", "/projects", { name: "x" })).rejects.toThrow("The cell size must be greater than 0.");
    expect(asked[0]?.body).toEqual({ name: "x" });
    const headers = vi.mocked(fetch).mock.calls[0]?.[1]?.headers as Record<string, string> | undefined;
    expect(headers?.["X-CSRFToken"]).toBe("tok");
  });

  it("says what to do when nobody answers", async () => {
    vi.stubGlobal("fetch", vi.fn().mockRejectedValue(new TypeError("refused")));
    await expect(call("GET", "/projects")).rejects.toThrow("Is ./run still running?");
  });

  it("has words for an answer without any", async () => {
    service({ "GET /broken": () => new Response("<html>", { status: 502 }) });
    const failure = await call("GET", "/broken").catch((error: ApiError) => error);
    expect(failure).toBeInstanceOf(ApiError);
    expect((failure as ApiError).message).toBe("The service answered with 502.");
  });

  it("tells an empty tile from a full one", async () => {
    service({
      "GET /empty": () => new Response(null, { status: 204 }),
      "GET /full": () => new Response(new Uint8Array([1, 2])),
    });
    expect(await bytes("/empty")).toBeNull();
    expect((await bytes("/full"))?.byteLength).toBe(2);
  });
});

function Watch() {
  const jobs = useJobs(1);
  const { surfaces } = useHeld();
  return (
    <button type="button" onClick={() => jobs.refetch()}>
      {surfaces.map((one) => one.name).join() || "nothing"}
    </button>
  );
}

describe("jobs", () => {
  it("bring in what they made even when they begin and end between two looks", async () => {
    let ended = false;
    service({
      "GET /projects/1/jobs": () => (ended ? [job("quick", { holding_id: 4 })] : []),
      "GET /projects/1/holdings": () => (ended ? [surface(4, "Quick one")] : []),
    });
    draw(<Watch />);
    await waitFor(() => expect(vi.mocked(fetch).mock.calls.length).toBeGreaterThanOrEqual(2));
    await new Promise((resolve) => window.setTimeout(resolve, 30));
    ended = true;
    screen.getByRole("button").click();
    expect(await screen.findByText("Quick one")).toBeTruthy();
  });
});
