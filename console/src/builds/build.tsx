import { useMutation } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { buildsCalls, buildsQueries } from "./calls";
import { promotionQueries } from "../promotion/calls";
import { Confirm, TextInput } from "../ui/dialog";
import { bytes, count, moment, packagePath, save } from "../ui/format";
import { Button, ErrorNote, Loaded, Panel, Time, usePageTitle, useQuery } from "../ui/parts";
import { PromotionTable } from "../promotion/promotions";
import { testsText } from "./builds";
import { type Column, Table } from "../ui/table";

export default function BuildPage() {
  const { name = "", number = "" } = useParams();
  usePageTitle(`${name}#${number}`);
  const query = useQuery(buildsQueries.build(name, number));
  return <Loaded query={query}>{(b) => <Page key={`${name}#${number}`} b={b} />}</Loaded>;
}

function Page({ b }: { b: Schemas["BuildPage"] }) {
  const title = `${b.name}#${b.number}`;
  const tracks = useQuery(promotionQueries.tracks());
  const changed = useChanged();
  const [text, look] = testsText(b);
  const navigate = useNavigate();
  const [removing, setRemoving] = useState(false);
  const open = (tracks.data ?? []).filter((t) => t.stages.some((s) => s.may));
  return (
    <>
      <div className="mb-4 flex flex-wrap items-end gap-x-4 gap-y-2">
        <div className="grow">
          <p className="text-sm text-soft">
            <Link to="/builds">Builds</Link> /
          </p>
          <h1 className="text-2xl font-semibold tracking-tight">{title}</h1>
        </div>
        {b.versions.length > 0 &&
          open.map((t) => (
            <Link
              key={t.name}
              to={`/promote?${new URLSearchParams({ build: title, along: t.name })}`}
              className="inline-flex h-8 items-center rounded bg-deep px-3 text-sm font-medium text-deep-ink hover:no-underline hover:opacity-90"
            >
              Promote along {t.name}…
            </Link>
          ))}
        {b.versions.length === 0 && <Button onClick={() => setRemoving(true)}>Remove…</Button>}
        {removing && (
          <Confirm
            title={`Remove ${title}?`}
            text="Only a build that made nothing can be removed. Its number can be used again then."
            what="Remove it"
            run={() =>
              buildsCalls.removeBuild(b.name, b.number).then(() => (navigate("/builds"), changed({ kind: "build" })))
            }
            close={() => setRemoving(false)}
          />
        )}
      </div>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-5">
        <Panel>
          <dl className="grid grid-cols-[7rem_1fr] gap-y-1 px-4 py-3 text-sm">
            <dt className="text-soft">Began</dt>
            <dd>
              {moment(b.startedAt)}, by {b.by}
              {b.agent && ` on ${b.agent}`}
            </dd>
            <dt className="text-soft">Recorded</dt>
            <dd>{b.endedAt ? moment(b.endedAt) : <span className="text-glow">it runs</span>}</dd>
            <dt className="text-soft">Tests</dt>
            <dd className={look}>
              {text}
              {b.tests && b.tests.skipped > 0 && `, ${b.tests.skipped} skipped`}
              {b.tests?.names && <span className="block text-xs">{b.tests.names.join(", ")}</span>}
            </dd>
            {b.revision && (
              <>
                <dt className="text-soft">Revision</dt>
                <dd className="font-mono text-xs leading-5 wrap-anywhere">
                  {b.revision}
                  {b.branch && <span className="font-sans text-sm"> on {b.branch}</span>}
                </dd>
              </>
            )}
            {b.link && (
              <>
                <dt className="text-soft">CI</dt>
                <dd>
                  <a href={b.link} rel="noreferrer noopener" className="wrap-anywhere">
                    {b.link.replace(/^https?:\/\//, "")}
                  </a>
                </dd>
              </>
            )}
            {Object.entries(b.notes)
              .sort()
              .map(([k, v]) => (
                <Note key={k} name={k} text={v} />
              ))}
          </dl>
        </Panel>
        <Panel title="What it made" aside={<span className="text-xs text-soft">and where promotions put it</span>}>
          <Versions all={b.versions} none="It made nothing that you may see." />
        </Panel>
        {b.promotions.length > 0 && (
          <Panel title="Promotions">
            <PromotionTable all={b.promotions} />
          </Panel>
        )}
        <Documents b={b} />
        <Panel title="What it used">
          <Versions all={b.used} none="Nothing was downloaded with its token while it ran." />
        </Panel>
        <Licences all={[...b.versions, ...b.used]} />
        <Compare b={b} />
      </div>
    </>
  );
}

function Note({ name, text }: { name: string; text: string }) {
  return (
    <>
      <dt className="truncate text-soft" title={name}>
        {name}
      </dt>
      <dd className="wrap-anywhere">{text}</dd>
    </>
  );
}

const versionColumns: Column<Schemas["BuiltVersion"]>[] = [
  {
    head: "Version",
    by: (v) => v.purl,
    cell: (v) => <Link to={packagePath(v.purl)}>{decodeURIComponent(v.purl.replace(/^pkg:/, ""))}</Link>,
  },
  {
    head: "Repository",
    by: (v) => v.repository,
    cell: (v) => <Link to={`/repositories/${v.repository}`}>{v.repository}</Link>,
  },
  {
    head: "How",
    look: "whitespace-nowrap",
    by: (v) => v.promotion ?? 0,
    cell: (v) => (v.promotion ? <Link to={`/promotions/${v.promotion}`}>promotion {v.promotion}</Link> : "published"),
  },
  { head: "Files", right: true, by: (v) => v.files, cell: (v) => v.files },
  { head: "Size", right: true, by: (v) => v.bytes, cell: (v) => bytes(v.bytes) },
  { head: "Since", by: (v) => v.at, cell: (v) => <Time at={v.at} /> },
];

/** Licences counts the packages of a build by the licences that they state. */
function Licences({ all }: { all: Schemas["BuiltVersion"][] }) {
  const by = new Map<string, Set<string>>();
  for (const v of all) {
    const name = v.licences.join(" OR ");
    by.set(name, (by.get(name) ?? new Set()).add(v.purl));
  }
  if (by.size === 0) return null;
  const rows = [...by].sort(([a, x], [b, y]) => Number(a === "") - Number(b === "") || y.size - x.size);
  return (
    <Panel title="Licences" aside={<span className="text-xs text-soft">of what it made and used</span>}>
      <ul className="px-4 py-2 text-sm">
        {rows.map(([name, purls]) => (
          <li key={name} className="flex flex-wrap items-baseline gap-x-2 py-0.5">
            <span className={name ? "font-medium" : "text-soft"}>{name || "not stated"}</span>
            <span title={[...purls].join("\n")} className="text-soft">
              {count(purls.size, "version")}
            </span>
          </li>
        ))}
      </ul>
    </Panel>
  );
}

function Versions({ all, none }: { all: Schemas["BuiltVersion"][]; none: string }) {
  if (all.length === 0) return <p className="px-4 py-3 text-sm text-soft">{none}</p>;
  return (
    <Table
      name="Versions of a build"
      dense
      rows={all}
      rowKey={(v) => v.purl + v.upload + v.repository}
      look={(v) => (v.goneAt ? "text-soft line-through" : "")}
      columns={versionColumns}
    />
  );
}

/** Documents are statements and lists of parts about what the build made. */
function Documents({ b }: { b: Schemas["BuildPage"] }) {
  const changed = useChanged();
  const chosen = useRef<HTMLInputElement>(null);
  const attach = useMutation({
    mutationFn: (file: File) => buildsCalls.attachDocument(b.name, b.number, file),
    onSuccess: () => changed({ kind: "build" }),
  });
  return (
    <Panel
      title="Documents"
      aside={
        <>
          <Button disabled={attach.isPending} onClick={() => chosen.current?.click()}>
            Attach…
          </Button>
          <input
            ref={chosen}
            type="file"
            aria-label="A document to attach"
            className="sr-only"
            tabIndex={-1}
            onChange={(e) => {
              const file = e.target.files?.[0];
              if (file) attach.mutate(file);
              e.target.value = "";
            }}
          />
        </>
      }
    >
      {attach.error && (
        <div className="p-4 pb-2">
          <ErrorNote error={attach.error} />
        </div>
      )}
      {b.documents.length === 0 && (
        <p className="px-4 py-3 text-sm text-soft">
          None. A statement (in-toto) or a list of parts (CycloneDX, SPDX) can be attached, here or by CI.
        </p>
      )}
      <ul>
        {b.documents.map((d) => (
          <li
            key={d.id}
            className="flex flex-wrap items-baseline gap-x-4 border-b border-rule px-4 py-2 text-sm last:border-0"
          >
            <button
              type="button"
              title="Download it"
              className="cursor-pointer text-deep underline"
              onClick={() => void buildsCalls.document(b.name, b.number, d.id).then((content) => save(content, d.name))}
            >
              {d.name}
            </button>
            <span>
              {d.kind}, {d.type}
            </span>
            <span className={d.signedBy.length ? "text-good" : "text-soft"}>
              {d.signedBy.length
                ? `signed by ${d.signedBy.join(", ")}`
                : d.signed
                  ? "signed by no key that is known here"
                  : "not signed"}
            </span>
            <span className="ml-auto text-soft">
              {bytes(d.size)}, <Time at={d.at} /> by {d.by}
            </span>
          </li>
        ))}
      </ul>
    </Panel>
  );
}

/** Compare tells what is not the same in an earlier build. */
function Compare({ b }: { b: Schemas["BuildPage"] }) {
  const before = /^\d+$/.test(b.number) && Number(b.number) > 1 ? `${b.name}#${Number(b.number) - 1}` : "";
  const [text, setText] = useState(before);
  const [asked, setAsked] = useState("");
  const query = useQuery({
    ...buildsQueries.comparison(b.name, b.number, asked),
    enabled: asked !== "",
    retry: false,
  });
  return (
    <Panel
      title="Compare"
      aside={
        <form
          className="flex items-center gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            setAsked(text.trim());
          }}
        >
          <div className="w-52">
            <TextInput
              className="h-8!"
              aria-label="An earlier build"
              placeholder="NAME#NUMBER"
              value={text}
              onChange={(e) => setText(e.target.value)}
            />
          </div>
          <Button type="submit">Compare with it</Button>
        </form>
      }
    >
      {query.error && (
        <div className="p-4">
          <ErrorNote error={query.error} />
        </div>
      )}
      {query.data && <Differences d={query.data} />}
      {!query.data && !query.error && (
        <p className="px-4 py-3 text-sm text-soft">What this build made and used that the other did not.</p>
      )}
    </Panel>
  );
}

function Differences({ d }: { d: Schemas["BuildComparison"] }) {
  const all = [...d.made.map((x) => ({ ...x, what: "made" })), ...d.used.map((x) => ({ ...x, what: "used" }))];
  if (all.length === 0) return <p className="px-4 py-3 text-sm">They made and used the same.</p>;
  return (
    <>
      <Table
        name="Differences"
        dense
        rows={all}
        rowKey={(x) => x.what + x.purl}
        columns={[
          { head: "What", by: (x) => x.what, look: "w-16 text-soft", cell: (x) => x.what },
          {
            head: "Package",
            by: (x) => x.purl,
            cell: (x) => <Link to={packagePath(x.purl)}>{decodeURIComponent(x.purl.replace(/^pkg:/, ""))}</Link>,
          },
          {
            head: "Before and now",
            look: "font-mono text-xs",
            cell: (x) => (
              <>
                {x.before || <span className="font-sans text-soft">not there</span>} →{" "}
                {x.after || <span className="font-sans text-soft">gone</span>}
                {x.otherBytes && <span className="ml-2 font-sans text-soft">with other bytes</span>}
              </>
            ),
          },
        ]}
      />
      <p className="px-4 py-2 text-xs text-soft">{count(all.length, "difference")}</p>
    </>
  );
}
