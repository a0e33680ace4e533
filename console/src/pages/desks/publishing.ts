import { ProblemError } from "../../api/client";

/**
 * Publish; when that would close links of guests, ask first.
 * `request` sends the request; its argument says whether to close links.
 */
export async function publishAfterAsking(
  request: (closeLinks: boolean) => Promise<unknown>,
): Promise<void> {
  try {
    await request(false);
  } catch (problem) {
    if (!(problem instanceof ProblemError) || problem.problem.field !== "close_links")
      throw problem;
    if (!confirm(`${problem.problem.detail} Publish it anyway?`)) return;
    await request(true);
  }
}
