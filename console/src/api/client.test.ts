import { afterEach, describe, expect, it, vi } from "vitest";
import { get, type ProblemError, send } from "./client";

const answer = (status: number, body: unknown) =>
  vi.stubGlobal(
    "fetch",
    vi.fn(async () => new Response(body === null ? null : JSON.stringify(body), { status })),
  );

afterEach(() => vi.unstubAllGlobals());

describe("calls", () => {
  it("send JSON and the header that forms of other sites cannot set", async () => {
    answer(200, { slug: "harbour" });
    expect(await send("POST", "/teams/trust/kbs", { name: "Harbour" })).toEqual({
      slug: "harbour",
    });
    expect(fetch).toHaveBeenCalledWith("/api/v1/teams/trust/kbs", {
      method: "POST",
      headers: { "X-Fontanel-Console": "1", "Content-Type": "application/json" },
      body: '{"name":"Harbour"}',
    });
  });

  it("return nothing for 204", async () => {
    answer(204, null);
    expect(await send("DELETE", "/keys/1")).toBeUndefined();
  });

  it("raise the problem with its advice", async () => {
    answer(404, { title: "Not found", status: 404, detail: "No such desk.", advice: "Check it." });
    const problem = await get("/desks/1").catch((error: ProblemError) => error);
    expect((problem as ProblemError).message).toBe("No such desk. Check it.");
  });

  it("raise the status line when the answer is not a problem document", async () => {
    vi.stubGlobal(
      "fetch",
      vi.fn(async () => new Response("<html>", { status: 502, statusText: "Bad Gateway" })),
    );
    await expect(get("/kbs")).rejects.toThrow("Bad Gateway");
  });
});
