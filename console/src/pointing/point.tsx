import { useMutation, useQuery } from "@tanstack/react-query";
import { FileText, KeyRound, Lock, User } from "lucide-react";
import { useState } from "react";
import { type Schemas } from "../api/client";
import { pointingQueries } from "./calls";
import { rightsCalls } from "../rights/calls";
import { Tick } from "../ui/dialog";
import { moment } from "../ui/format";
import { Button, CopyButton, ErrorNote, Loaded, Panel } from "../ui/parts";

/** useClients gives the programs that can be pointed at a repository. */
function useClients() {
  return useQuery({ ...pointingQueries.clients(), staleTime: Infinity });
}

/** OneOf is a row of buttons of which one is chosen. */
export function OneOf({
  label,
  value,
  onChange,
  options,
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  options: [string, string][];
}) {
  return (
    <div role="radiogroup" aria-label={label} className="flex flex-wrap gap-1">
      {options.map(([key, text]) => (
        <button
          key={key}
          type="button"
          role="radio"
          aria-checked={key === value}
          onClick={() => onChange(key)}
          className={`cursor-pointer rounded border px-2.5 py-1 text-sm ${key === value ? "border-deep bg-wash font-medium" : "border-rule hover:bg-wash/50"}`}
        >
          {text}
        </button>
      ))}
    </div>
  );
}

/** Point tells how a package client is pointed at a repository. */
export function Point({
  repository,
  ecosystem,
  purl,
  may,
}: {
  repository: string;
  ecosystem: string;
  purl?: string;
  may: string[];
}) {
  const clients = useClients();
  const [chosen, setChosen] = useState("");
  const [publish, setPublish] = useState(false);
  const all = (clients.data ?? []).filter((c) => c.ecosystem === ecosystem);
  const client = all.find((c) => c.name === chosen) ?? all[0];
  if (!client) return <Loaded query={clients}>{() => null}</Loaded>;
  const publishes = publish && client.publishes && may.includes("publish");
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <OneOf label="Client" value={client.name} onChange={setChosen} options={all.map((c) => [c.name, c.title])} />
        {client.publishes && may.includes("publish") && (
          <div className="-mb-3">
            <Tick checked={publish} onChange={setPublish}>
              to publish as well
            </Tick>
          </div>
        )}
      </div>
      <Setup
        key={`${repository} ${client.name} ${publishes}`}
        repository={repository}
        client={client}
        publish={publishes}
        purl={purl}
      />
    </div>
  );
}

function Setup({
  repository,
  client,
  publish,
  purl,
}: {
  repository: string;
  client: Schemas["PackageClient"];
  publish: boolean;
  purl?: string;
}) {
  const query = useQuery(pointingQueries.setup(repository, client.name, client.ecosystem, publish, purl));
  return <Loaded query={query}>{(setup) => <Pieces setup={setup} repository={repository} />}</Loaded>;
}

const shells: [string, string][] = [
  ["posix", "bash, zsh"],
  ["powershell", "PowerShell"],
  ["cmd", "cmd"],
];

function Pieces({ setup, repository }: { setup: Schemas["Setup"]; repository: string }) {
  const [shell, setShell] = useState(/Win/.test(navigator.userAgent) ? "powershell" : "posix");
  const make = useMutation({
    mutationFn: () =>
      rightsCalls.addToken({
        ...setup.token,
        name: `${setup.token.name.slice(0, 50)}-${Math.random().toString(36).slice(2, 8)}`,
      }),
  });
  const filled = (text: string) => (make.data ? text.replaceAll(setup.placeholder, make.data.secret) : text);
  const ci = setup.ci.find((s) => s.name === shell)?.text ?? "";
  const command = `crelvo point ${setup.client.name} --at ${repository}${setup.pointing.publishReleases || setup.pointing.publishSnapshots ? " --publish" : ""} --write`;
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 rounded-lg border border-rule bg-sheet px-4 py-2.5 text-sm">
        {setup.pieces.length > 0 ? (
          <span className="inline-flex min-w-0 items-center gap-1">
            One command does it all: <code className="font-mono wrap-anywhere">{command}</code>
            <CopyButton text={command} label="Copy the command" />
          </span>
        ) : (
          <span>{setup.client.title} keeps none of this in a file.</span>
        )}
        <span className="ml-auto">
          {make.data ? (
            <span role="status" className="text-soft">
              With the token <b className="font-medium text-ink">{make.data.name}</b> put in: it may{" "}
              {make.data.can.join(" and ")} until {moment(make.data.expiresAt)}. It is shown this once.
            </span>
          ) : (
            <Button onClick={() => make.mutate()} disabled={make.isPending}>
              <KeyRound size={15} /> Put in a new token
            </Button>
          )}
        </span>
      </div>
      {make.error && <ErrorNote error={make.error} />}
      <div className="gap-4 lg:columns-2 [&>*]:mb-4 [&>*]:break-inside-avoid">
        {setup.pieces.map((p) => (
          <PieceText key={p.title + p.file} piece={p} text={filled(p.text)} />
        ))}
        <Code title="Then" text={setup.commands.join("\n") + "\n"} />
        <Panel
          title={<span className="text-sm">In CI, from its store of secrets</span>}
          aside={<OneOf label="Shell" value={shell} onChange={setShell} options={shells} />}
        >
          <Pre text={filled(ci)} />
        </Panel>
        {setup.ciFiles.map((p) => (
          <PieceText key={"ci" + p.file} piece={p} text={p.text} />
        ))}
        {setup.recipe && (
          <Panel
            title={<span className="text-sm">While a container is built, so that the secret stays in no layer</span>}
            aside={<CopyButton text={setup.recipe} label="Copy the instruction" />}
          >
            <Pre text={setup.recipe} />
            <p className="px-4 pb-1 text-xs text-soft">and built with</p>
            <Pre text={setup.build} />
          </Panel>
        )}
      </div>
    </>
  );
}

function Pre({ text }: { text: string }) {
  return <pre className="px-4 py-3 font-mono text-xs leading-5 wrap-anywhere whitespace-pre-wrap">{text}</pre>;
}

function Code({ title, text }: { title: string; text: string }) {
  return (
    <Panel title={<span className="text-sm">{title}</span>} aside={<CopyButton text={text} label={`Copy: ${title}`} />}>
      <Pre text={text} />
    </Panel>
  );
}

function PieceText({ piece: p, text }: { piece: Schemas["Piece"]; text: string }) {
  const [Icon, whose] = p.secret
    ? [Lock, "yours alone"]
    : p.personal
      ? [User, "yours"]
      : [FileText, "the project's, may be shared"];
  return (
    <Panel
      title={<span className="text-sm">{p.title}</span>}
      aside={<CopyButton text={text} label={`Copy: ${p.title}`} />}
    >
      <p className="flex flex-wrap items-center gap-x-2 border-b border-rule px-4 py-1.5 text-xs text-soft">
        <Icon size={13} aria-hidden /> <code className="font-mono text-ink">{p.file}</code> {whose}
        {p.windows && (
          <span>
            ; on Windows <code className="font-mono">{p.windows}</code>
          </span>
        )}
      </p>
      <Pre text={text} />
    </Panel>
  );
}
