/** The catalogue in pages: only what is in sight is fetched. */
import { keepPreviousData, useQueries, useQuery } from "@tanstack/react-query";
import { useCallback, useState } from "react";
import { useSearchParams } from "react-router";
import { client, type Member, type Schemas, take } from "../../api/client";
import { type Selection, spans } from "./selection";

const PAGE = 200;
/** the order of what a picture shows */
export const LIKENESS = "likeness";

export type Search = {
  q: string;
  /** conditions such as kind:texture; of one name any, of several names all */
  where: string[];
  folder: string | null;
  in_work: boolean;
  order: string;
  /** by what items are grouped; "" where they are not */
  group: string;
  /** a picture that is looked for; "" where none is */
  like: string;
};

/** The search as the address of the page holds it, and how to change it. */
export function useSearch(): [Search, (change: Partial<Search>, item?: string) => void] {
  const [params, setParams] = useSearchParams();
  const search: Search = {
    q: params.get("q") ?? "",
    where: params.getAll("where"),
    folder: params.get("folder"),
    in_work: params.get("in_work") === "true",
    order: params.get("order") ?? (params.get("like") ? LIKENESS : "kind"),
    group: params.get("group") ?? "",
    like: params.get("like") ?? "",
  };
  const change = (part: Partial<Search>, item = "") => {
    const next = new URLSearchParams();
    for (const [name, value] of Object.entries({ ...search, ...part })) {
      if (Array.isArray(value)) for (const one of value) next.append(name, one);
      else if (value && !(name === "order" && (value === "kind" || value === LIKENESS)))
        next.set(name, String(value));
    }
    if (item) next.set("item", item);
    setParams(next, { replace: true });
  };
  return [search, change];
}

/** A search as the server is asked for it. */
export function queryOf(search: Search) {
  const { folder, like, group, ...rest } = search;
  return {
    ...rest,
    ...(folder === null ? {} : { folder }),
    ...(like ? { like } : {}),
    ...(group ? { group } : {}),
  };
}

export function useFacets(project: string, search: Search) {
  const { order: _, group: __, ...conditions } = queryOf(search);
  return useQuery({
    queryKey: ["members", project, "facets", conditions],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/facets", {
          params: { path: { project_id: project }, query: conditions },
        }),
      ),
    placeholderData: keepPreviousData,
  });
}

/** The groups in which items stand, in order; null where they are not grouped. */
export function useGroups(project: string, search: Search) {
  return useQuery({
    queryKey: ["members", project, "groups", queryOf(search)],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/groups", {
          params: { path: { project_id: project }, query: queryOf(search) },
        }),
      ),
    enabled: search.group !== "",
    placeholderData: keepPreviousData,
  });
}

/** How many items there are, and each one as soon as its page is here. */
export function useCatalogue(project: string, search: Search) {
  const [pages, setPages] = useState<number[]>([0]);
  const results = useQueries({
    queries: pages.map((page) => ({
      queryKey: ["members", project, "page", queryOf(search), page],
      queryFn: () =>
        take(
          client.GET("/api/projects/{project_id}/members", {
            params: {
              path: { project_id: project },
              query: { ...queryOf(search), offset: page * PAGE, limit: PAGE },
            },
          }),
        ),
      placeholderData: keepPreviousData,
      staleTime: 30_000,
    })),
  });
  const loaded = results.find((result) => result.data && !result.isPlaceholderData)?.data ?? results[0]?.data;
  const total = loaded?.total ?? 0;
  const byPage = new Map(pages.map((page, index) => [page, results[index]?.data]));
  const at = (index: number): Member | undefined => {
    const page = byPage.get(Math.floor(index / PAGE));
    return page?.offset === Math.floor(index / PAGE) * PAGE ? page.items[index % PAGE] : undefined;
  };
  const need = useCallback((first: number, last: number) => {
    // The first page stays: it says how many there are while others come.
    const wanted = [0];
    for (let page = Math.floor(first / PAGE); page <= Math.floor(last / PAGE); page += 1)
      if (page) wanted.push(page);
    setPages((now) => (wanted.every((page) => now.includes(page)) && now.length < 12 ? now : wanted));
  }, []);
  return {
    total,
    readAs: loaded?.read_as ?? {},
    puzzling: loaded?.puzzling ?? [],
    at,
    need,
    ready: loaded !== undefined,
    error: results.find((result) => result.error)?.error,
  };
}

/** The addresses of what is chosen and can be edited, and how many others there are among it. */
export async function addressesOf(
  project: string,
  search: Search,
  selection: Selection,
): Promise<Schemas["Chosen"]> {
  const span = selection === "all" ? undefined : spans(selection);
  return take(
    client.GET("/api/projects/{project_id}/addresses", {
      params: { path: { project_id: project }, query: { ...queryOf(search), ...(span ? { span } : {}) } },
    }),
  );
}
