import { Failure, type Problem, type Schemas } from "../api/client";
import { publishingCalls } from "./calls";

/** Picked is a file that was chosen, and what it was said to be. */
export type Picked = { id: number; file: File; as?: string };

/** Intended is a version that picked files would become. */
export type Intended = Omit<Schemas["Intended"], "files"> & {
  files: (Schemas["IntendedFile"] & { picked?: Picked })[];
};

const seen = new WeakMap<File, Schemas["Stretch"][]>();
const digests = new WeakMap<File, string>();

/** Of larger files the digest is not computed before they are sent: browsers do that in memory alone. */
const largestDigest = 32 << 20;

/** look asks the service what files would become, and shows it the parts of them that it wants for that. */
export async function look(repository: string, picked: Picked[], signal?: AbortSignal): Promise<Intended[]> {
  await Promise.all(picked.map((p) => digest(p.file)));
  for (let round = 0; round < 20; round++) {
    signal?.throwIfAborted();
    const looked = await publishingCalls.look(
      repository,
      {
        files: picked.map((p) => ({
          name: p.file.name,
          size: p.file.size,
          as: p.as,
          sha256: digests.get(p.file),
          seen: seen.get(p.file),
        })),
      },
      signal,
    );
    if (looked.wanted.length === 0) {
      return looked.publications.map((i) => ({ ...i, files: i.files.map((f) => ({ ...f, picked: picked[f.file] })) }));
    }
    for (const w of looked.wanted) {
      const of = picked[w.file];
      if (of)
        seen.set(of.file, [
          ...(seen.get(of.file) ?? []),
          { at: w.at, bytes: await base64(of.file.slice(w.at, w.at + w.length)) },
        ]);
    }
  }
  throw new Failure(
    0,
    "unknown",
    "The service keeps asking for more of the files.",
    "Publish them with the command line.",
  );
}

async function digest(file: File) {
  // Without TLS, browsers compute digests for pages of this machine only.
  if (digests.has(file) || file.size > largestDigest || !globalThis.crypto?.subtle) return;
  const sum = await crypto.subtle.digest("SHA-256", await readable(file.arrayBuffer()));
  digests.set(file, [...new Uint8Array(sum)].map((b) => b.toString(16).padStart(2, "0")).join(""));
}

async function base64(part: Blob): Promise<string> {
  const raw = new Uint8Array(await readable(part.arrayBuffer()));
  let text = "";
  for (let i = 0; i < raw.length; i += 0x8000) text += String.fromCharCode(...raw.subarray(i, i + 0x8000));
  return btoa(text);
}

async function readable<T>(reading: Promise<T>): Promise<T> {
  try {
    return await reading;
  } catch {
    throw new Failure(
      0,
      "unreadable",
      "A file cannot be read any more.",
      "It may have been changed or moved since it was chosen; choose it again.",
    );
  }
}

/** publish sends the files of a version; onProgress is told the part that is sent, from 0 to 1. */
export function publish(
  repository: string,
  intended: Intended,
  onProgress: (part: number) => void,
  signal: AbortSignal,
): Promise<Schemas["Published"]> {
  const form = new FormData();
  for (const f of intended.files) {
    if (!f.picked) continue;
    const sum = digests.get(f.picked.file);
    if (f.here && sum) form.append("here", new Blob([sum]), f.picked.file.name);
    else form.append("file", f.picked.file, f.picked.file.name);
  }
  const as = intended.files.find((f) => f.picked?.as)?.picked?.as;
  const path: keyof import("../api/schema.gen").paths = "/api/v1/repositories/{name}/publish";
  return new Promise((done, failed) => {
    // Nothing else tells a page how far it is with sending.
    const request = new XMLHttpRequest();
    request.open(
      "POST",
      path.replace("{name}", encodeURIComponent(repository)) + (as ? `?as=${encodeURIComponent(as)}` : ""),
    );
    request.responseType = "json";
    request.upload.onprogress = (e) => e.lengthComputable && onProgress(e.loaded / e.total);
    request.onload = () => {
      if (request.status < 300) return done(request.response as Schemas["Published"]);
      const p = request.response as Partial<Problem> | null;
      failed(
        new Failure(
          request.status,
          p?.code ?? "unknown",
          p?.detail ?? `The service answered ${request.status}.`,
          p?.hint,
        ),
      );
    };
    request.onerror = () =>
      failed(new Failure(0, "unreachable", "The connection was lost.", "Nothing of it is published; try again."));
    request.onabort = () => failed(new Failure(0, "stopped", "It was stopped.", "Nothing of it is published."));
    signal.addEventListener("abort", () => request.abort());
    request.send(form);
  });
}
