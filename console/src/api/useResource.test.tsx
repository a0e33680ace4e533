import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { act, renderHook, waitFor } from "@testing-library/react";
import type { ReactNode } from "react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { useResource } from "./useResource";

function Wrapper({ children }: { children: ReactNode }) {
  const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  return <QueryClientProvider client={client}>{children}</QueryClientProvider>;
}

/** Responses that a test releases one by one. */
let pending: Map<string, (body: unknown, status?: number) => void>;

beforeEach(() => {
  pending = new Map();
  vi.stubGlobal(
    "fetch",
    vi.fn(
      (url: string) =>
        new Promise((resolve) =>
          pending.set(url, (body, status = 200) =>
            resolve(new Response(JSON.stringify(body), { status })),
          ),
        ),
    ),
  );
});
afterEach(() => vi.unstubAllGlobals());

const release = (path: string, body: unknown, status?: number) =>
  act(async () => pending.get(`/api/v1${path}`)?.(body, status));

describe("useResource", () => {
  it("ignores an earlier path's late response", async () => {
    const { result, rerender } = renderHook(({ path }) => useResource<string>(path), {
      wrapper: Wrapper,
      initialProps: { path: "/one" },
    });
    rerender({ path: "/two" });
    await release("/two", "second");
    await release("/one", "first");
    await waitFor(() => expect(result.current.data).toBe("second"));
  });

  it("keeps the earlier data until the new arrives", async () => {
    const { result, rerender } = renderHook(({ path }) => useResource<string>(path), {
      wrapper: Wrapper,
      initialProps: { path: "/one" },
    });
    await release("/one", "first");
    await waitFor(() => expect(result.current.data).toBe("first"));
    rerender({ path: "/two" });
    expect(result.current.data).toBe("first");
  });

  it("does not take a first response that is older than a reload", async () => {
    const { result } = renderHook(() => useResource<string>("/one"), { wrapper: Wrapper });
    const answerFirst = pending.get("/api/v1/one");
    await act(async () => result.current.reload());
    await act(async () => answerFirst?.("before the change"));
    await release("/one", "after the change");
    await waitFor(() => expect(result.current.data).toBe("after the change"));
  });

  it("reports a problem", async () => {
    const { result } = renderHook(() => useResource("/gone"), { wrapper: Wrapper });
    await release("/gone", { status: 404, title: "Not found", detail: "No such page." }, 404);
    await waitFor(() => expect(result.current.error).toBe("No such page."));
  });

  it("loads nothing for a path of null", () => {
    renderHook(() => useResource(null), { wrapper: Wrapper });
    expect(fetch).not.toHaveBeenCalled();
  });
});
