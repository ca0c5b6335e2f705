import type { QueryClient, QueryFilters } from "@tanstack/react-query";

/**
 * Asks again for what may have changed. A first answer that is still on its way may be from before the change, and
 * would not be asked for again by invalidating alone: it is dropped first.
 */
export async function renew(queries: QueryClient, filters: QueryFilters = {}): Promise<void> {
  await queries.cancelQueries({
    ...filters,
    predicate: (query) => query.state.data === undefined && query.state.fetchStatus === "fetching",
  });
  await queries.invalidateQueries(filters);
}
