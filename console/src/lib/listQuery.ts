/** The query of a list that the service filters page by page. */

/** The query for what is wished and a page of it; what is empty is left out. */
export function asked(
  wish: object,
  page: { before?: number | undefined; limit?: number | undefined },
): string {
  const query = new URLSearchParams();
  for (const [name, value] of Object.entries<unknown>({ ...wish, ...page })) {
    if (typeof value === "number" || (typeof value === "string" && value !== ""))
      query.set(name, String(value));
  }
  return query.toString();
}
