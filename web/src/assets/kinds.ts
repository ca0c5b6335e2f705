/** The kinds of items, as the server tells of them. */
import { useQuery } from "@tanstack/react-query";
import { client, type Schemas, take } from "../api/client";

export type Kind = Schemas["KindView"];

export const useKinds = () =>
  useQuery({
    queryKey: ["kinds"],
    queryFn: () => take(client.GET("/api/kinds")),
    staleTime: Number.POSITIVE_INFINITY,
  });

/** A kind by its identifier, as soon as the server has told of it. */
export function useKind(id: string): Kind | undefined {
  return useKinds().data?.kinds.find((kind) => kind.id === id);
}
