import { useInfiniteQuery } from "@tanstack/react-query";
import { CornerDownRight, FileText, Folder } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { type Schemas } from "../api/client";
import { comparePath, makeupQueries, type Side } from "./calls";
import { CompareWith } from "./compare-with";
import { bytes, count } from "../ui/format";
import { Table } from "../ui/table";
import { Button, ErrorNote, Panel, Time, useQuery } from "../ui/parts";

type Entry = Schemas["SetEntry"];

/** Contents shows the files of a version of a file set, folder by folder, and leads to what tells it from another. */
export function Contents({
  version,
  address,
  set,
  others,
}: {
  version: Side;
  /** address is where its files are to be had, with a slash at the end. */
  address: string;
  set: Schemas["FileSet"];
  others: (Side & { title: string })[];
}) {
  const [folder, setFolder] = useState("");
  const [shown, setShown] = useState<Entry>();
  const query = useInfiniteQuery(makeupQueries.folder(version, folder));
  const entries = query.data?.pages.flatMap((page) => page.entries);
  const shared = query.data?.pages[0]?.shared ?? [];
  const open = (path: string) => {
    setFolder(path);
    setShown(undefined);
  };
  const steps = folder.split("/").slice(0, -1);
  return (
    <Panel title="Contents" aside={<CompareWith version={version} others={others} />}>
      <div className="flex flex-wrap items-center justify-between gap-3 border-b border-rule px-4 py-2 text-sm">
        <nav aria-label="Folder" className="flex flex-wrap items-center gap-x-1 font-mono">
          <FolderName name="all files" current={folder === ""} onOpen={() => open("")} />
          {steps.map((name, i) => (
            <span key={i} className="flex items-center gap-x-1">
              <span className="text-soft">/</span>
              <FolderName
                name={name}
                current={i === steps.length - 1}
                onOpen={() => open(steps.slice(0, i + 1).join("/") + "/")}
              />
            </span>
          ))}
        </nav>
        <span className="text-soft">
          {count(set.files, "file")}, {bytes(set.bytes)}; {folder ? "this folder" : "all"} as{" "}
          {["tar.gz", "tar.zst", "zip"].map((as) => (
            <a
              key={as}
              href={`${address}${folder.split("/").map(encodeURIComponent).join("/")}?as=${as}`}
              className="ml-1 underline"
            >
              {as}
            </a>
          ))}
        </span>
      </div>
      {folder === "" && shared.length > 0 && (
        <p className="border-b border-rule px-4 py-2 text-sm text-soft">
          Shares what it is kept in with{" "}
          {shared.map((o, i) => (
            <span key={o.version}>
              {i > 0 && (i === shared.length - 1 ? " and " : ", ")}
              {o.purl === version.purl ? (
                o.version
              ) : (
                <Link
                  className="text-deep underline"
                  to={comparePath({ purl: o.purl, repository: version.repository }, version)}
                >
                  {o.version}
                </Link>
              )}{" "}
              ({bytes(o.bytes)})
            </span>
          ))}
        </p>
      )}
      {query.error && (
        <div className="p-4">
          <ErrorNote error={query.error} retry={() => void query.refetch()} />
        </div>
      )}
      {entries && (
        <Table
          name="Contents"
          dense
          partly={query.hasNextPage}
          rows={entries}
          rowKey={(e) => e.name}
          look={(e) => (e === shown ? "bg-wash" : "")}
          columns={[
            {
              head: "Name",
              by: (e) => e.name,
              look: "font-mono text-xs",
              cell: (e) => (
                <button
                  type="button"
                  data-row
                  aria-expanded={e.kind === "folder" ? undefined : e === shown}
                  onClick={() =>
                    e.kind === "folder" ? open(`${folder}${e.name}/`) : setShown(e === shown ? undefined : e)
                  }
                  className="inline-flex min-h-6 cursor-pointer items-center gap-2 align-middle text-left text-deep hover:underline"
                >
                  <Kind kind={e.kind} />
                  <span className="wrap-anywhere">{e.name}</span>
                  {e.target && <span className="text-soft">→ {e.target}</span>}
                </button>
              ),
            },
            {
              head: "Holds",
              by: (e) => e.files ?? 0,
              look: "text-soft",
              cell: (e) => e.kind === "folder" && count(e.files ?? 0, "file"),
            },
            {
              head: "Size",
              by: (e) => e.bytes,
              right: true,
              cell: (e) => (e.kind === "link" ? "" : bytes(e.bytes)),
            },
            {
              head: "Changed",
              by: (e) => e.modified ?? "",
              look: "text-soft whitespace-nowrap",
              cell: (e) => e.modified && <Time at={e.modified} />,
            },
            { head: "Mode", look: "font-mono text-xs text-soft", cell: (e) => e.mode ?? "" },
          ]}
        />
      )}
      {query.hasNextPage && (
        <p className="p-2 text-center">
          <Button disabled={query.isFetchingNextPage} onClick={() => void query.fetchNextPage()}>
            {query.isFetchingNextPage ? "Loading…" : "Show more"}
          </Button>
        </p>
      )}
      {shown && <Preview key={folder + shown.name} entry={shown} />}
    </Panel>
  );
}

function FolderName({ name, current, onOpen }: { name: string; current: boolean; onOpen: () => void }) {
  if (current) return <span aria-current="true">{name}</span>;
  return (
    <button type="button" onClick={onOpen} className="min-h-6 cursor-pointer text-deep hover:underline">
      {name}
    </button>
  );
}

function Kind({ kind }: { kind: Entry["kind"] }) {
  const Icon = kind === "folder" ? Folder : kind === "link" ? CornerDownRight : FileText;
  return <Icon size={14} aria-label={kind} className="shrink-0 text-soft" />;
}

const pictures = /\.(png|jpe?g|gif|webp)$/i;
const texts = /(^|\/)[^.]*$|\.(txt|md|log|csv|jsonl?|ya?ml|toml|ini|conf|xml|html?|sh|py|go|c|h|css|js|ts)$/i;

/** mostShown is how many bytes of a text are shown, and mostDrawn of how many bytes a picture is drawn. */
const mostShown = 64 << 10;
const mostDrawn = 8 << 20;

/** Preview shows a file if it is a text or a picture, and what is known of it. */
function Preview({ entry: e }: { entry: Entry }) {
  const text = e.kind === "file" && texts.test(e.name);
  const query = useQuery({ ...makeupQueries.preview(e.path ?? "", mostShown), enabled: text, retry: false });
  return (
    <div className="border-t border-rule px-4 py-3 text-sm">
      <p className="flex flex-wrap items-baseline gap-x-4">
        <a href={e.path} download={e.name} className="font-mono">
          {e.name}
        </a>
        {e.sha256 && (
          <span className="text-xs text-soft">
            SHA-256 <code className="font-mono wrap-anywhere">{e.sha256}</code>
          </span>
        )}
      </p>
      {e.kind === "file" && pictures.test(e.name) && e.bytes <= mostDrawn && (
        <img src={e.path} alt={e.name} className="mt-2 max-h-96 max-w-full rounded border border-rule" />
      )}
      {query.error && <p className="mt-2 text-bad">It cannot be shown: {query.error.message}.</p>}
      {query.data !== undefined && (
        <pre className="mt-2 max-h-96 overflow-auto rounded border border-rule bg-paper p-3 font-mono text-xs">
          {query.data || "(empty)"}
        </pre>
      )}
      {query.data !== undefined && e.bytes > mostShown && (
        <p className="mt-1 text-xs text-soft">the first {bytes(mostShown)}</p>
      )}
    </div>
  );
}
