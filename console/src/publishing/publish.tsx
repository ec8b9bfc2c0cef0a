import { useMutation } from "@tanstack/react-query";
import { FileUp, X } from "lucide-react";
import { type DragEvent, useRef, useState } from "react";
import { Link } from "react-router";
import { Failure, type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { type Intended, look, type Picked, publish } from "./send";
import { Field, TextInput } from "../ui/dialog";
import { bytes, count, packagePath } from "../ui/format";
import { Button, ErrorNote, Maturity, Panel, useQuery } from "../ui/parts";

/** Most is how many files are looked at at once. */
const most = 100;

const checksum = /\.(md5|sha1|sha256|sha512)$/;

/** takes tells whether the caller may publish to a repository by hand. */
export function takes(r: Schemas["Repository"]) {
  return (
    !r.asOf && r.may.includes("publish") && (r.kind === "house" || Boolean(r.chain?.releasesTo ?? r.chain?.snapshotsTo))
  );
}

let ids = 0;

/** picked makes picked files of files; checksums are left out, the service computes its own. */
export function picked(files: File[]): Picked[] {
  return files.filter((f) => !checksum.test(f.name)).map((file) => ({ id: ids++, file }));
}

/** dropped gives the files of a drop, and those in folders. */
export async function dropped(event: DragEvent): Promise<File[]> {
  const entries = [...event.dataTransfer.items].map((item) => item.webkitGetAsEntry());
  const plain = [...event.dataTransfer.files];
  const found: File[] = [];
  const walk = async (entry: FileSystemEntry): Promise<void> => {
    if (found.length > most) return;
    if (entry.isFile) found.push(await new Promise<File>((yes, no) => (entry as FileSystemFileEntry).file(yes, no)));
    if (!entry.isDirectory) return;
    const reader = (entry as FileSystemDirectoryEntry).createReader();
    for (;;) {
      const some = await new Promise<FileSystemEntry[]>((yes, no) => reader.readEntries(yes, no));
      if (some.length === 0) return;
      for (const inside of some) await walk(inside);
    }
  };
  if (!entries.some((e) => e?.isDirectory)) return plain;
  for (const entry of entries) if (entry) await walk(entry);
  return found;
}

type Outcome = { progress?: number; published?: Schemas["Published"]; error?: unknown };

/** Publish takes files by hand: it tells what they would become, and sends them then. */
export function Publish({
  repository: r,
  files,
  setFiles,
}: {
  repository: Schemas["Repository"];
  files: Picked[];
  setFiles: (change: (files: Picked[]) => Picked[]) => void;
}) {
  const chosen = useRef<HTMLInputElement>(null);
  const changed = useChanged();
  const [outcomes, setOutcomes] = useState<Map<string, Outcome>>(new Map());
  const [stop, setStop] = useState<AbortController>();
  const some = files.slice(0, most);
  const looked = useQuery({
    queryKey: ["look", r.name, some.map((f) => [f.id, f.as])],
    queryFn: ({ signal }) => look(r.name, some, signal),
    enabled: some.length > 0 && !stop,
    staleTime: Infinity,
    gcTime: 0,
    retry: false,
    placeholderData: (before) => before,
  });
  const all = some.length > 0 ? (looked.data ?? []) : [];
  const ready = all.filter((i) => sendable(i) && !outcomes.get(keyOf(i))?.published);
  const note = (i: Intended, o: Outcome) => setOutcomes((known) => new Map(known).set(keyOf(i), o));
  const send = useMutation({
    mutationFn: async () => {
      const stopping = new AbortController();
      setStop(stopping);
      for (const i of ready) {
        if (stopping.signal.aborted) break;
        note(i, { progress: 0 });
        try {
          note(i, { published: await publish(r.name, i, (progress) => note(i, { progress }), stopping.signal) });
        } catch (error) {
          note(i, { error });
        }
      }
    },
    onSettled: () => {
      setStop(undefined);
      void changed({ kind: "package", repository: r.name });
    },
  });
  const say = (i: Intended, as: string) =>
    setFiles((known) => known.map((f) => (i.files.some((of) => of.picked?.id === f.id) ? { ...f, as } : f)));
  const drop = (i: Intended) => setFiles((known) => known.filter((f) => !i.files.some((of) => of.picked?.id === f.id)));
  const clear = () => {
    setOutcomes(new Map());
    setFiles(() => []);
  };
  const done = all.length > 0 && all.every((i) => outcomes.get(keyOf(i))?.published);
  return (
    <div className="grid gap-5">
      <div
        className={`flex flex-wrap items-center justify-center gap-3 rounded-lg border-2 border-dashed border-rule bg-sheet px-4 text-center ${files.length > 0 ? "py-3" : "flex-col py-10"}`}
      >
        <FileUp size={files.length > 0 ? 18 : 28} strokeWidth={1.5} aria-hidden className="text-soft" />
        <p className="font-medium">
          Drop {files.length > 0 ? "more" : "package files or their folder"} anywhere on this page
        </p>
        {files.length === 0 && (
          <p className="max-w-2xl text-sm text-balance text-soft">
            Jars with their poms, npm tarballs, wheels and source distributions, NuGet packages. Each is looked at
            before anything is sent, and published only when you say so.
          </p>
        )}
        <Button onClick={() => chosen.current?.click()}>Choose files…</Button>
        <input
          ref={chosen}
          type="file"
          multiple
          aria-label="Files to publish"
          className="sr-only"
          tabIndex={-1}
          onChange={(e) => {
            const more = picked([...(e.target.files ?? [])]);
            e.target.value = "";
            setFiles((known) => [...known, ...more]);
          }}
        />
      </div>
      {files.length > most && (
        <ErrorNote
          error={
            new Failure(
              0,
              "too-many",
              `These are ${files.length} files; ${most} are looked at at once.`,
              "Publish these, and drop the others then.",
            )
          }
        />
      )}
      {some.length > 0 && looked.error && <ErrorNote error={looked.error} retry={() => void looked.refetch()} />}
      {some.length > 0 && (looked.isPending || looked.isPlaceholderData) && !looked.error && (
        <p className="text-sm text-soft" aria-busy="true">
          Looking at {count(some.length, "file")}…
        </p>
      )}
      {all.length > 0 && (
        <Panel
          title={done ? "Published" : "What becomes visible"}
          aside={
            <div className="flex gap-2">
              {stop && <Button onClick={() => stop.abort()}>Stop</Button>}
              {!stop && <Button onClick={clear}>{done ? "Publish more" : "Clear"}</Button>}
              {!done && (
                <Button
                  look="strong"
                  disabled={ready.length === 0 || send.isPending || looked.isPlaceholderData}
                  onClick={() => send.mutate()}
                >
                  {ready.length > 0 ? `Publish ${count(ready.length, "version")}` : "Publish"}
                </Button>
              )}
            </div>
          }
        >
          <ul>
            {all.map((i) => (
              <Version
                key={keyOf(i)}
                intended={i}
                asked={r.name}
                outcome={outcomes.get(keyOf(i))}
                busy={send.isPending}
                onSay={(as) => say(i, as)}
                onDrop={() => drop(i)}
              />
            ))}
          </ul>
        </Panel>
      )}
    </div>
  );
}

function keyOf(i: Intended) {
  return i.files.map((f) => f.picked?.id ?? f.name).join(" ");
}

function sendable(i: Intended) {
  return !i.refusal || i.refusal.code === "told-later";
}

/** Version is what some of the files would become, or why not. */
function Version({
  intended: i,
  asked,
  outcome,
  busy,
  onSay,
  onDrop,
}: {
  intended: Intended;
  asked: string;
  outcome?: Outcome;
  busy: boolean;
  onSay: (as: string) => void;
  onDrop: () => void;
}) {
  const unknown = i.refusal && ["no-coordinates", "not-recognised", "several-poms"].includes(i.refusal.code);
  const p = outcome?.published;
  const title = p?.purl ?? i.purl;
  return (
    <li className="border-b border-rule px-4 py-3 last:border-0">
      <div className="flex flex-wrap items-baseline gap-x-3 gap-y-1">
        <span className="font-medium wrap-anywhere">
          {p ? <Link to={packagePath(p.purl)}>{readable(p.purl)}</Link> : title ? readable(title) : i.files[0]?.name}
        </span>
        {i.purl && <Maturity snapshot={i.snapshot} />}
        {i.repository && sendable(i) && (
          <span className="text-sm text-soft">
            in {i.repository}
            {i.repository !== asked && `, by way of ${asked}`}
          </span>
        )}
        <span className="grow" />
        {!busy && !p && (
          <button
            type="button"
            aria-label={`Leave out ${title ? readable(title) : i.files[0]?.name}`}
            onClick={onDrop}
            className="inline-flex size-6 cursor-pointer items-center justify-center self-center rounded text-soft hover:bg-wash hover:text-ink"
          >
            <X size={15} />
          </button>
        )}
      </div>
      {i.purl && (
        <ul className="mt-1 text-sm text-soft">
          {i.files.map((f) => (
            <li key={f.name} className="wrap-anywhere">
              <span className="font-mono text-ink">{f.name}</span> {bytes(f.size)}
              {f.file < 0
                ? ", which comes with it"
                : f.picked && f.picked.file.name !== f.name && ` from ${f.picked.file.name}`}
              {f.here && ", here already: it is not sent"}
            </li>
          ))}
        </ul>
      )}
      {i.there && (i.same || !i.snapshot) && !i.refusal && !p && (
        <p className="mt-1 text-sm text-soft">
          {i.same
            ? "It is there already, byte for byte."
            : "This release is there already; only the same bytes are taken."}
        </p>
      )}
      {i.refusal && !p && (
        <p role="note" className={`mt-2 text-sm ${i.refusal.code === "told-later" ? "text-soft" : "text-bad"}`}>
          {i.refusal.detail}.{!unknown && i.refusal.hint && ` ${i.refusal.hint}`}
        </p>
      )}
      {unknown && <Coordinates file={i.files[0]?.name ?? ""} onSay={onSay} />}
      {outcome?.progress !== undefined && (
        <div className="mt-2 flex items-center gap-3 text-sm text-soft">
          <progress
            className="h-1.5 grow accent-(--deep)"
            value={outcome.progress}
            max={1}
            aria-label={`How much of ${title ?? "it"} is sent`}
          />
          <span className="w-28 text-right tabular-nums">
            {outcome.progress < 1 ? `${Math.floor(outcome.progress * 100)} % sent` : "being recorded"}
          </span>
        </div>
      )}
      {p && (
        <p className="mt-1 text-sm text-good">
          {p.same
            ? "Was there already, byte for byte."
            : `Published${p.name !== "" && !p.purl.endsWith(`@${p.name}`) ? ` as ${p.name}` : ""}; it can be used now.`}
        </p>
      )}
      {outcome?.error !== undefined && (
        <div className="mt-2">
          <ErrorNote error={outcome.error} />
        </div>
      )}
    </li>
  );
}

/** Coordinates asks what a file is that does not say it: Maven's alone can be said. */
function Coordinates({ file, onSay }: { file: string; onSay: (as: string) => void }) {
  const guess = /^(.+?)-(\d[\w.+-]*?)(?:\.(?:tar\.\w+|\w+))$/.exec(file);
  const [group, setGroup] = useState("");
  const [artifact, setArtifact] = useState(guess?.[1] ?? file.replace(/\.\w+$/, ""));
  const [version, setVersion] = useState(guess?.[2] ?? "");
  return (
    <form
      className="mt-2 grid items-end gap-x-3 sm:grid-cols-[2fr_2fr_1fr_auto]"
      onSubmit={(e) => {
        e.preventDefault();
        onSay(
          `pkg:maven/${encodeURIComponent(group.trim())}/${encodeURIComponent(artifact.trim())}@${encodeURIComponent(version.trim())}`,
        );
      }}
    >
      <Field label="Group">
        <TextInput
          name="group"
          required
          placeholder="org.openshore"
          value={group}
          onChange={(e) => setGroup(e.target.value)}
        />
      </Field>
      <Field label="Artifact">
        <TextInput name="artifact" required value={artifact} onChange={(e) => setArtifact(e.target.value)} />
      </Field>
      <Field label="Version">
        <TextInput name="version" required value={version} onChange={(e) => setVersion(e.target.value)} />
      </Field>
      <Button type="submit" className="mb-3 h-9">
        Use these
      </Button>
    </form>
  );
}

function readable(purl: string) {
  return decodeURIComponent(purl.replace(/^pkg:/, ""));
}
