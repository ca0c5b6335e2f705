/** What the page asks for, and what it asks to be done. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { toast } from "sonner";
import { isActive } from "../lib/format";
import { client, type Edit, ENDED, type Job, LINK, Problem, type Schemas, take } from "./client";
import { renew } from "./renew";

export const useServer = () =>
  useQuery({
    queryKey: ["state"],
    queryFn: () => take(client.GET("/api/state")),
    staleTime: Number.POSITIVE_INFINITY,
  });

export const useProjects = () =>
  useQuery({ queryKey: ["projects"], queryFn: () => take(client.GET("/api/projects")) });

const at = (project: string) => ({ params: { path: { project_id: project } } });

export const useProject = (project: string) =>
  useQuery({
    queryKey: ["project", project],
    queryFn: () => take(client.GET("/api/projects/{project_id}", at(project))),
    enabled: project !== "",
  });

export const useEdits = (project: string) =>
  useQuery({
    queryKey: ["edits", project],
    queryFn: () => take(client.GET("/api/projects/{project_id}/edits", at(project))),
    enabled: project !== "",
  });

export const useCopies = (project: string) =>
  useQuery({
    queryKey: ["copies", project],
    queryFn: () => take(client.GET("/api/projects/{project_id}/edits/copies", at(project))),
    // Many edits are compared a few seconds' worth at a time.
    refetchInterval: ({ state }) => (state.data?.more ? 500 : false),
  });

export const useItem = (project: string, address: string | null) =>
  useQuery({
    queryKey: ["item", project, address],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/item", {
          params: { path: { project_id: project }, query: { address: address ?? "" } },
        }),
      ),
    enabled: address !== null,
  });

export const useLinks = (project: string, address: string) =>
  useQuery({
    queryKey: ["links", project, address],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/links", {
          params: { path: { project_id: project }, query: { address } },
        }),
      ),
    // Read from the originals, which stay as they are; while they are being read, the job's end brings it anew.
    staleTime: ({ state }) => (state.data?.ready ? 60_000 : 0),
  });

export const usePlaces = (project: string, address: string, holds: string) =>
  useQuery({
    queryKey: ["places", project, address, holds],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/bytes-at", {
          params: { path: { project_id: project }, query: { address, holds } },
        }),
      ),
    enabled: holds !== "",
    staleTime: 60_000,
  });

export const useLines = (project: string, address: string, words: string) =>
  useQuery({
    queryKey: ["lines", project, address, words],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/lines", {
          params: { path: { project_id: project }, query: { address, words } },
        }),
      ),
    enabled: words !== "",
    staleTime: 60_000,
  });

export const usePlan = (project: string) =>
  useQuery({
    queryKey: ["plan", project],
    queryFn: () => take(client.GET("/api/projects/{project_id}/plan", at(project))),
  });

export const useGameFiles = (project: string) =>
  useQuery({
    queryKey: ["files", project],
    queryFn: () => take(client.GET("/api/projects/{project_id}/files", at(project))),
  });

export const useBuilds = (project: string) =>
  useQuery({
    queryKey: ["builds", project],
    queryFn: () => take(client.GET("/api/projects/{project_id}/builds", at(project))),
  });

export const useJobs = () =>
  useQuery({ queryKey: ["jobs"], queryFn: () => take(client.GET("/api/jobs")), staleTime: 5_000 });

export function showProblem(error: unknown): void {
  if (error instanceof Problem) {
    const details = [error.where, error.remedy].filter(Boolean).join(" · ");
    toast.error(error.message, { description: details || undefined, duration: 12_000 });
  } else toast.error(String(error));
}

/** A change on the server; a refusal is shown in words. */
export function useAct<Input, Output>(
  act: (input: Input) => Promise<Output>,
  after?: (output: Output, input: Input) => void,
) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: act,
    onError: showProblem,
    onSuccess: (output, input) => {
      void renew(queries);
      after?.(output, input);
    },
  });
}

const item = (project: string, address: string) => ({
  params: { path: { project_id: project }, query: { address } },
});

/** Where the larger levels of a texture may be. */
export const useHalves = (project: string, address: string) =>
  useQuery({
    queryKey: ["halves", project, address],
    queryFn: () => take(client.GET("/api/projects/{project_id}/halves", item(project, address))),
  });

export const useJoin = (project: string) =>
  useAct(
    (body: Schemas["Join"]) =>
      take(client.POST("/api/projects/{project_id}/halves", { ...at(project), body })),
    (joined) => {
      const many = joined.names.length > 1 ? `${joined.names.length} textures are` : "The texture is";
      toast.success(`${many} joined by the layout ${joined.layout}`);
    },
  );

/** Opens a game; it can be looked at as soon as the project exists, while it is still being listed. */
export const useOpenGame = (after?: (project: string) => void) =>
  useAct(
    (path: string) => take(client.POST("/api/projects", { body: { path } })),
    (job) => {
      if (job.project_id) after?.(job.project_id);
    },
  );

export const useOpenAgain = () =>
  useAct((project: string) => take(client.POST("/api/projects/{project_id}/open", at(project))));

/** Chooses the way by which builds go back, or says which edition this is. */
export const useChoose = (project: string) =>
  useAct((body: Schemas["Choices"]) =>
    take(client.PUT("/api/projects/{project_id}/choices", { ...at(project), body })),
  );

export const useStructures = (project: string) =>
  useQuery({
    queryKey: ["structures", project],
    queryFn: () => take(client.GET("/api/projects/{project_id}/structure", at(project))),
  });

export const useFindStructure = (project: string) =>
  useAct((body: { path: string; data: string | null }) =>
    take(client.POST("/api/projects/{project_id}/structure", { ...at(project), body })),
  );

export const useKeepLayout = () =>
  useAct(
    (text: string) => take(client.POST("/api/layouts", { body: { text } })),
    (kept) => {
      toast.success(`The layout is kept as ${kept.file}`);
    },
  );

export const useCancelJob = () =>
  useAct((number: number) =>
    take(client.POST("/api/jobs/{number}/cancel", { params: { path: { number } } })),
  );

export const usePutInWork = (project: string) =>
  useAct(
    (addresses: string[]) =>
      take(client.POST("/api/projects/{project_id}/edits", { ...at(project), body: { addresses } })),
    (edits: Edit[]) => {
      // A single item is shown on Edit at once, with its file; nothing more need be said.
      if (edits.length > 1)
        toast.success(`${edits.length} items are being edited`, {
          description: "Open their files from the exchange folder; each one you save comes back.",
        });
    },
  );

/** As many are done at once while one waits; more become a job with its progress in the strip. */
const AT_ONCE = 20;

/** Puts what is chosen in work: few at once, many as a job. */
export const usePutManyInWork = (project: string) => {
  const few = usePutInWork(project);
  const many = useMany(project);
  return (addresses: string[]) =>
    addresses.length > AT_ONCE ? many.mutate({ addresses, act: "edit" }) : few.mutate(addresses);
};

/** Something done with many items, as a job. */
const useMany = (project: string) =>
  useAct((body: Omit<Schemas["ManyRequest"], "mark"> & { mark?: string }) =>
    take(client.POST("/api/projects/{project_id}/many", { ...at(project), body: { mark: "", ...body } })),
  );

export const useTakeOut = (project: string) => {
  const putBack = usePutInWork(project);
  return useAct(
    (address: string) => take(client.DELETE("/api/projects/{project_id}/edits", item(project, address))),
    (_, address) => {
      toast("No longer edited; every version is kept.", {
        action: { label: "Undo", onClick: () => putBack.mutate([address]) },
      });
    },
  );
};

export const useSetRemedies = (project: string) =>
  useAct(({ address, remedies }: { address: string; remedies: string[] }) =>
    take(
      client.PUT("/api/projects/{project_id}/edits/remedies", {
        ...item(project, address),
        body: { remedies },
      }),
    ),
  );

export const useSetMeant = (project: string) =>
  useAct(
    ({
      address,
      finding,
      scope,
    }: {
      address: string;
      finding: string;
      scope: "item" | "folder" | "game" | null;
    }) =>
      take(
        client.PUT("/api/projects/{project_id}/edits/meant", {
          ...item(project, address),
          body: { finding, scope },
        }),
      ),
  );

export const useSetChoices = (project: string) =>
  useAct(({ address, choices }: { address: string; choices: Record<string, unknown> }) =>
    take(
      client.PUT("/api/projects/{project_id}/edits/choices", {
        ...item(project, address),
        body: { choices },
      }),
    ),
  );

export const useGoTo = (project: string) =>
  useAct(({ address, position }: { address: string; position: number }) =>
    take(
      client.PUT("/api/projects/{project_id}/edits/position", {
        ...item(project, address),
        body: { position },
      }),
    ),
  );

/** A picture to look for; what it shows comes by ``useLike``. */
export const useLookFor = (project: string) =>
  useAct(async (file: File) =>
    take(
      client.POST("/api/projects/{project_id}/likes", {
        params: { path: { project_id: project }, query: { name: file.name || "picture.png" } },
        body: file as never,
        bodySerializer: (body: unknown) => body as Blob,
        headers: { "Content-Type": "application/octet-stream" },
      }),
    ),
  );

/** What a picture shows, asked for until it is known. */
export const useLike = (project: string, like: string) =>
  useQuery({
    queryKey: ["likes", project, like],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/likes/{like}", {
          params: { path: { project_id: project, like } },
        }),
      ),
    refetchInterval: (query) =>
      query.state.data && (query.state.data.ready || query.state.data.fault) ? false : 250,
    retry: false,
    enabled: like !== "",
  });

export const useUpload = (project: string) =>
  useAct(async ({ address, file }: { address: string; file: File }) =>
    take(
      client.PUT("/api/projects/{project_id}/edits/file", {
        params: { path: { project_id: project }, query: { address, name: file.name } },
        body: file as never,
        bodySerializer: (body: unknown) => body as Blob,
        headers: { "Content-Type": "application/octet-stream" },
      }),
    ),
  );

/** What a new item like another one could be. */
export const useProposal = (project: string, like: string | null) =>
  useQuery({
    queryKey: ["new", project, like],
    enabled: like !== null,
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/new", {
          params: { path: { project_id: project }, query: { like: like ?? "" } },
        }),
      ),
  });

/** A new item like another one, of a file where there is one. */
export const useMakeNew = (project: string, after: (made: string[]) => void) =>
  useAct(
    async ({
      file,
      ...query
    }: {
      like: string;
      name: string;
      file: File | null;
      units?: number;
      scale?: number;
      most?: number;
      copy?: string;
      copy_name?: string;
      users?: string[];
    }) =>
      take(
        client.POST("/api/projects/{project_id}/new", {
          params: { path: { project_id: project }, query: { ...query, file: file?.name ?? "" } },
          body: (file ?? new Blob([])) as never,
          bodySerializer: (body: unknown) => body as Blob,
          headers: { "Content-Type": "application/octet-stream" },
        }),
      ),
    ({ made }) => after(made),
  );

export const useTakeAway = (project: string) =>
  useAct(
    (address: string) => take(client.DELETE("/api/projects/{project_id}/new", item(project, address))),
    () => {
      toast("Taken away; its versions are kept under its name.");
    },
  );

/** A file that replaces one part of an item; without a file it is worked out again. */
export const useTakeBeside = (project: string) =>
  useAct(async ({ address, part, file }: { address: string; part: string; file: File | null }) =>
    take(
      client.PUT("/api/projects/{project_id}/edits/beside", {
        params: { path: { project_id: project }, query: { address, part, name: file?.name ?? "none" } },
        body: (file ?? new Blob([])) as never,
        bodySerializer: (body: unknown) => body as Blob,
        headers: { "Content-Type": "application/octet-stream" },
      }),
    ),
  );

/** Test colours for a selection, or what was there before. */
/** Test colours for what is chosen, or out of it: few at once, many as a job. */
export const useManyTestColours = (project: string) => {
  const few = useTestColours(project);
  const many = useMany(project);
  return ({ addresses, mark }: { addresses: string[]; mark: string | null }) =>
    addresses.length > AT_ONCE
      ? many.mutate({ addresses, act: mark === null ? "unmark" : "mark", mark: mark ?? "" })
      : few.mutate({ addresses, mark });
};

export const useTestColours = (project: string) => {
  const act = useAct(
    ({ addresses, mark }: { addresses: string[]; mark: string | null }) =>
      take(
        client.PUT("/api/projects/{project_id}/edits/test-colours", {
          ...at(project),
          body: { addresses, mark },
        }),
      ),
    (edits: Edit[], { mark }) => {
      const many = edits.length === 1 ? "1 item has" : `${edits.length} items have`;
      toast.success(mark ? `${many} test colours` : `${many} what was there before`, {
        description: mark ? "Build and try: the game shows which is which." : undefined,
        action: mark
          ? {
              label: "Take back",
              onClick: () => act.mutate({ addresses: edits.map((edit) => edit.address), mark: null }),
            }
          : undefined,
      });
    },
  );
  return act;
};

/** Items to a folder: those that are named or, where none is, all that a search finds. */
export const useExport = (project: string) =>
  useAct(({ folder, search, addresses }: { folder: string; search: Sought; addresses: string[] }) =>
    take(
      client.POST("/api/projects/{project_id}/export", {
        ...at(project),
        body: {
          folder,
          addresses: addresses.length ? addresses : null,
          q: search.q,
          where: search.where,
          inside: search.folder,
          in_work: search.in_work,
          like: search.like || null,
        },
      }),
    ),
  );

type Sought = { q: string; where: string[]; folder: string | null; in_work: boolean; like: string };

/** A folder that was exported, taken back. */
export const useImport = (project: string) =>
  useAct((folder: string) =>
    take(client.POST("/api/projects/{project_id}/import", { ...at(project), body: { folder } })),
  );

/** End Brae; its page then says so. */
export const useEnd = () =>
  useAct(
    () => take(client.POST("/api/end")),
    () => window.dispatchEvent(new Event(ENDED)),
  );

export const useBuild = (project: string) =>
  useAct((may_grow: boolean) =>
    take(client.POST("/api/projects/{project_id}/build", { ...at(project), body: { may_grow } })),
  );

export const useRestore = (project: string) =>
  useAct(({ paths, force = false }: { paths: string[] | null; force?: boolean }) =>
    take(client.POST("/api/projects/{project_id}/restore", { ...at(project), body: { paths, force } })),
  );

type Restored = { files: string[]; left: { path: string; reason: string }[] };

/** What a restore put back, and what it left alone. */
function tellRestored({ files, left }: Restored): void {
  if (files.length > 0)
    toast.success(files.length === 1 ? `${files[0]} is as it was` : `${files.length} files are as they were`);
  for (const { path, reason } of left)
    toast.warning(`${path} was left alone`, { description: reason, duration: Number.POSITIVE_INFINITY });
}

export const useTrial = (project: string) =>
  useQuery({
    queryKey: ["trial", project],
    queryFn: () => take(client.POST("/api/projects/{project_id}/trial", at(project))),
    staleTime: Number.POSITIVE_INFINITY,
  });

type ServerEvent =
  | { kind: "hello" }
  | { kind: "job"; job: Job }
  | { kind: "edit"; project: string; address: string }
  | { kind: "build" | "project" | "catalogue"; project: string };

/** Listens to what happens on the server and brings the page up to date. */
/** Milliseconds between two looks at edits while many of them change: all of them are fetched each time. */
const MANY_EDITS = 700;

/** Act at once, and then no more often than that: a job that changes hundreds of edits tells of each. */
function nowAndThen(act: (project: string) => void): (project: string) => void {
  const waiting = new Set<string>();
  let timer: ReturnType<typeof setTimeout> | undefined;
  const look = () => {
    timer = undefined;
    if (waiting.size === 0) return;
    for (const project of waiting) act(project);
    waiting.clear();
    timer = setTimeout(look, MANY_EDITS);
  };
  return (project) => {
    waiting.add(project);
    if (timer === undefined) look();
  };
}

export function useServerEvents(): void {
  const queries = useQueryClient();
  useEffect(() => {
    const source = new EventSource("/api/events");
    let greeted = false;
    const edited = nowAndThen((project) => {
      for (const key of ["edits", "item", "project", "plan", "copies", "members"])
        void renew(queries, { queryKey: [key, project] });
    });
    // A server that ended, a sleeping laptop: the browser tries again by itself, and the page says that it waits.
    source.onerror = () => window.dispatchEvent(new CustomEvent(LINK, { detail: false }));
    source.onopen = () => window.dispatchEvent(new CustomEvent(LINK, { detail: true }));
    source.onmessage = (message) => {
      const event = JSON.parse(message.data) as ServerEvent;
      if (event.kind === "hello") {
        // After a lost connection anything may have happened.
        if (greeted) void renew(queries);
        greeted = true;
      } else if (event.kind === "job") {
        queries.setQueryData<Job[]>(["jobs"], (jobs = []) => [
          event.job,
          ...jobs.filter((job) => job.id !== event.job.id),
        ]);
        if (!isActive(event.job)) void renew(queries);
        if (event.job.kind === "restore" && event.job.state === "done")
          tellRestored(event.job.result as unknown as Restored);
        if (event.job.state === "failed" && event.job.error) {
          const error = event.job.error;
          showProblem(
            new Problem(event.job.title, error.message, error.remedy ?? null, error.address ?? null),
          );
        }
      } else if (event.kind === "edit") edited(event.project);
      else if (event.kind === "catalogue") {
        for (const key of ["members", "project"]) void renew(queries, { queryKey: [key, event.project] });
      } else void renew(queries);
    };
    return () => source.close();
  }, [queries]);
}
