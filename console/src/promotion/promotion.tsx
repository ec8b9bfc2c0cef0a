import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { promotionCalls, promotionQueries } from "./calls";
import { Field, TextArea } from "../ui/dialog";
import { buildPath, count, moment, packagePath, shortName, shortVersion } from "../ui/format";
import { Button, ErrorNote, Loaded, Panel, Time, usePageTitle, useQuery } from "../ui/parts";
import { Gates, Hop, Plan, PromotionMark, versionsText } from "./promotions";
import { FormDialog, AreaField } from "../ui/form";

type Promotion = Schemas["Promotion"];

export default function PromotionPage() {
  const { id = "" } = useParams();
  usePageTitle(`Promotion ${id}`);
  const query = useQuery({
    ...promotionQueries.promotion(Number(id)),
    refetchInterval: (q) => (q.state.data?.state === "underway" ? 1000 : 30_000),
  });
  return <Loaded query={query}>{(p) => <Page key={p.id} p={p} />}</Loaded>;
}

function Page({ p }: { p: Schemas["PromotionPage"] }) {
  return (
    <>
      <div className="mb-4">
        <p className="text-sm text-soft">
          <Link to={`/tracks/${p.track}`}>{p.track}</Link> /
        </p>
        <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
          <h1 className="text-2xl font-semibold tracking-tight">Promotion {p.id}</h1>
          <PromotionMark state={p.state} />
          <Hop from={p.from} to={p.to} />
          <span className="ml-auto">
            <Acts p={p} />
          </span>
        </div>
      </div>
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-[minmax(0,1fr)_24rem]">
        <div className="grid grid-cols-[minmax(0,1fr)] gap-5">
          {p.state === "underway" && (
            <div role="status" className="rounded-lg border border-glow/50 bg-glow-wash px-4 py-3 text-sm">
              <p>
                {p.filesDone} of {count(p.files, "file")}
              </p>
              <progress className="mt-1 w-full accent-(--glow)" value={p.filesDone} max={Math.max(p.files, 1)} />
            </div>
          )}
          {p.why && (
            <div role="alert" className="rounded-lg border border-bad/40 bg-bad-wash px-4 py-3 text-sm">
              <p className="font-medium text-bad">Nothing was moved</p>
              <ul className="mt-1 list-disc pl-6">
                {p.why.split("\n").map((text) => (
                  <li key={text} className="wrap-anywhere">
                    {text}
                  </li>
                ))}
              </ul>
            </div>
          )}
          {p.mayVote && <Decision p={p} />}
          <Panel
            title="Gates"
            aside={
              <span className="text-xs text-soft">
                {p.state === "waiting" ? "as they are now" : "as they were then"}
              </span>
            }
          >
            <Gates all={p.answers} />
          </Panel>
          <Panel
            title="Versions"
            aside={
              <span className="text-xs text-soft">
                {count(p.versions.length, "version")}, {count(p.files, "file")}
              </span>
            }
          >
            <Plan all={p.planned} />
          </Panel>
          {p.deliveries.length > 0 && (
            <Panel
              title="Sent on"
              aside={p.deliveries.some((d) => d.state === "failed") && p.mayUndo && <SendAgain id={p.id} />}
            >
              <Deliveries all={p.deliveries} />
            </Panel>
          )}
        </div>
        <div className="grid grid-cols-[minmax(0,1fr)] gap-5">
          <Panel>
            <dl className="grid grid-cols-[6rem_1fr] gap-y-1 px-4 py-3 text-sm">
              <dt className="text-soft">Build</dt>
              <dd>{p.build ? <Link to={buildPath(p.build)}>{p.build}</Link> : versionsText(p)}</dd>
              <dt className="text-soft">Asked by</dt>
              <dd>
                {p.askedBy}, <Time at={p.askedAt} />
                <span className="block text-xs text-soft">{moment(p.askedAt)}</span>
              </dd>
              {p.endedAt && (
                <>
                  <dt className="text-soft">Ended</dt>
                  <dd>
                    <Time at={p.endedAt} />
                    <span className="block text-xs text-soft">{moment(p.endedAt)}</span>
                  </dd>
                </>
              )}
              {p.signWith && (
                <>
                  <dt className="text-soft">Signed with</dt>
                  <dd>
                    <a href={`/keys/${p.signWith}`}>{p.signWith}</a>
                  </dd>
                </>
              )}
              {p.undoneAt && (
                <>
                  <dt className="text-soft">Undone</dt>
                  <dd>
                    by {p.undoneBy}, <Time at={p.undoneAt} />
                    {p.undoReason && <span className="block">{p.undoReason}</span>}
                  </dd>
                </>
              )}
            </dl>
          </Panel>
          {p.notes && (
            <Panel title="Release notes">
              <p className="px-4 py-3 text-sm whitespace-pre-line">{p.notes}</p>
            </Panel>
          )}
          {p.votes.length > 0 && (
            <Panel title="What people said">
              <ul>
                {p.votes.map((v) => (
                  <li key={v.who} className="border-b border-rule px-4 py-2 text-sm last:border-0">
                    <b className="font-medium">{v.who}</b>{" "}
                    <span className={v.approve ? "text-good" : "text-bad"}>{v.approve ? "approved" : "refused"}</span>{" "}
                    <span className="text-soft">
                      <Time at={v.at} />
                    </span>
                    {v.comment && <span className="block">{v.comment}</span>}
                  </li>
                ))}
              </ul>
            </Panel>
          )}
          {p.state === "done" && (
            <Panel title="In its place now">
              <Placed p={p} />
            </Panel>
          )}
        </div>
      </div>
    </>
  );
}

function Placed({ p }: { p: Promotion }) {
  return (
    <>
      <ul className="px-4 py-2 text-sm">
        {p.versions.map((v) => (
          <li key={v.purl}>
            <Link to={packagePath(v.purl.replace(/@[^@]*$/, `@${v.to}`))}>
              {shortName(v.purl)} {shortVersion(v.to)}
            </Link>
          </li>
        ))}
      </ul>
      {p.next && Object.keys(p.next).length > 0 && (
        <p className="border-t border-rule px-4 py-2 text-sm text-soft">
          Go on with {[...new Set(Object.values(p.next))].join(", ")}
        </p>
      )}
    </>
  );
}

/** Decision is for who may approve or refuse. */
function Decision({ p }: { p: Promotion }) {
  const changed = useChanged();
  const [comment, setComment] = useState("");
  const say = useMutation({
    mutationFn: (approve: boolean) => promotionCalls.decide(p.id, { approve, comment }),
    onSuccess: () => changed({ kind: "promotion" }, { kind: "package" }),
  });
  return (
    <section className="rounded-lg border border-glow/50 bg-glow-wash px-4 py-3" aria-label="Your decision">
      <h2 className="mb-2 font-semibold text-glow">It waits for you</h2>
      <Field label="Comment" hint="Needed to refuse.">
        <TextArea name="comment" value={comment} onChange={(e) => setComment(e.target.value)} />
      </Field>
      {say.error && (
        <div className="mb-3">
          <ErrorNote error={say.error} />
        </div>
      )}
      <div className="flex gap-2">
        <Button look="strong" disabled={say.isPending} onClick={() => say.mutate(true)}>
          Approve
        </Button>
        <Button look="danger" disabled={say.isPending || comment.trim() === ""} onClick={() => say.mutate(false)}>
          Refuse
        </Button>
      </div>
    </section>
  );
}

/** Acts are what can be done to the promotion as a whole. */
function Acts({ p }: { p: Promotion }) {
  const [asking, setAsking] = useState(false);
  if (p.mayCancel)
    return (
      <>
        <Button onClick={() => setAsking(true)}>Cancel it…</Button>
        {asking && <Ask p={p} close={() => setAsking(false)} act="cancel" />}
      </>
    );
  if (p.mayUndo)
    return (
      <>
        <Button look="danger" onClick={() => setAsking(true)}>
          Undo…
        </Button>
        {asking && <Ask p={p} close={() => setAsking(false)} act="undo" />}
      </>
    );
  return null;
}

function Ask({ p, act, close }: { p: Promotion; act: "cancel" | "undo"; close: () => void }) {
  const changed = useChanged();
  const undo = act === "undo";
  return (
    <FormDialog
      title={undo ? `Undo promotion ${p.id}` : `Cancel promotion ${p.id}`}
      description={
        undo
          ? `${versionsText(p, 10)} will not be in ${p.to} any more; in ${p.from} they stay. If somebody has downloaded any of it, a reason is needed.`
          : "What it is about stays where it is."
      }
      start={{ reason: "" }}
      run={({ reason }) => (undo ? promotionCalls.undoPromotion : promotionCalls.cancelPromotion)(p.id, reason)}
      done={() => changed({ kind: "promotion" }, { kind: "package" })}
      close={close}
      leave="Leave it"
      look="danger"
      submit={undo ? "Undo it" : "Cancel it"}
    >
      <AreaField name="reason" label="Reason" autoFocus />
    </FormDialog>
  );
}

function SendAgain({ id }: { id: number }) {
  const changed = useChanged();
  const again = useMutation({
    mutationFn: () => promotionCalls.sendOnAgain(id),
    onSuccess: () => changed({ kind: "promotion" }, { kind: "package" }),
  });
  return (
    <Button disabled={again.isPending} onClick={() => again.mutate()}>
      Try again
    </Button>
  );
}

const deliveryStates = { done: "text-good", waiting: "text-glow", failed: "text-bad", cancelled: "text-soft" };

function Deliveries({ all }: { all: Schemas["Delivery"][] }) {
  return (
    <ul>
      {all.map((d) => (
        <li
          key={d.target + d.purl}
          className="flex flex-wrap items-baseline gap-x-3 border-b border-rule px-4 py-1.5 text-sm last:border-0"
        >
          <span className="font-medium">{shortName(d.purl)}</span> <span>to {d.target}</span>
          <span className={deliveryStates[d.state]}>{d.state === "done" ? "sent" : d.state}</span>
          <span className="ml-auto text-xs text-soft wrap-anywhere">
            {d.state !== "done" && `${count(d.attempts, "attempt")}: ${d.said || "not tried yet"}`}{" "}
            {d.endedAt && <Time at={d.endedAt} />}
          </span>
        </li>
      ))}
    </ul>
  );
}
