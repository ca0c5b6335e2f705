/** A description while it is being written: kept in the browser until it is used, by project and file. */

const key = (project: string, file: string) => `workshop:${project}:${file}`;

export function keptDraft(project: string, file: string): string | null {
  return sessionStorage.getItem(key(project, file));
}

export function keepDraft(project: string, file: string, text: string): void {
  sessionStorage.setItem(key(project, file), text);
}

export function workshopPath(project: string, file: string, data: string | null): string {
  const query = new URLSearchParams({ file });
  if (data) query.set("data", data);
  return `/p/${project}/workshop?${query}`;
}
