import { useMutation } from "@tanstack/react-query";
import { TriangleAlert } from "lucide-react";
import { useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { type Schemas } from "../api/client";
import { promotionCalls, promotionQueries } from "./calls";
import { Field, TextArea, TextInput, Tick } from "../ui/dialog";
import { bytes, count, lines } from "../ui/format";
import { Button, Empty, ErrorNote, Loaded, Panel, usePageTitle, useQuery } from "../ui/parts";
import { Gates, Hop, Plan } from "./promotions";

/** NewPromotionPage shows what a promotion would do, and does it when somebody says so. */
export default function NewPromotionPage() {
  usePageTitle("Promote");
  const [params] = useSearchParams();
  const track = params.get("along") ?? "";
  const build = params.get("build") ?? undefined;
  const purls = params.getAll("purl");
  const navigate = useNavigate();
  const [as, setAs] = useState("");
  const [tried, setTried] = useState("");
  const [goOn, setGoOn] = useState(false);
  const [notes, setNotes] = useState("");
  const asked: Schemas["NewPromotion"] = {
    track,
    build,
    purls: purls.length ? purls : undefined,
    as: lines(tried),
    goOn,
  };
  const dryRun = useQuery({
    ...promotionQueries.dryRun(asked),
    retry: false,
    enabled: track !== "" && (build !== undefined || purls.length > 0),
  });
  const promote = useMutation({
    mutationFn: () => promotionCalls.promote({ ...asked, notes }),
    onSuccess: (p) => navigate(`/promotions/${p.id}`),
  });
  if (!track || (!build && purls.length === 0)) {
    return (
      <Panel>
        <Empty title="Nothing is chosen">
          Open a <Link to="/builds">build</Link> or a <Link to="/tracks">track</Link>, and promote from there.
        </Empty>
      </Panel>
    );
  }
  return (
    <>
      <div className="mb-4">
        <p className="text-sm text-soft">
          <Link to={`/tracks/${track}`}>{track}</Link> /
        </p>
        <h1 className="text-2xl font-semibold tracking-tight">Promote {build ?? count(purls.length, "version")}</h1>
      </div>
      <Loaded query={dryRun}>
        {(p) => {
          const stuck = p.problems.length > 0;
          const restamps = p.planned.some((v) => v.restamp);
          const newBytes = p.planned.reduce((n, v) => n + v.newBytes, 0);
          return (
            <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-[minmax(0,1fr)_22rem]">
              <div className="grid grid-cols-[minmax(0,1fr)] gap-5">
                {stuck && (
                  <div role="alert" className="rounded-lg border border-bad/40 bg-bad-wash px-4 py-3 text-sm">
                    <p className="flex items-center gap-2 font-medium text-bad">
                      <TriangleAlert size={16} aria-hidden /> It cannot be promoted like this
                    </p>
                    <ul className="mt-1 list-disc pl-6">
                      {p.problems.map((text) => (
                        <li key={text} className="wrap-anywhere">
                          {text}
                        </li>
                      ))}
                    </ul>
                  </div>
                )}
                <Panel
                  title={<Hop from={p.from} to={p.to} />}
                  aside={
                    <span className="text-xs text-soft">
                      {count(p.planned.length, "version")}, {count(p.files, "file")},{" "}
                      {newBytes ? `about ${bytes(newBytes)} new` : "no new bytes"}
                    </span>
                  }
                >
                  <Plan all={p.planned} />
                </Panel>
                <Panel title="Gates" aside={<span className="text-xs text-soft">as they are now</span>}>
                  <Gates all={p.answers} />
                </Panel>
              </div>
              <Panel title="Say so">
                <form
                  className="px-4 py-3"
                  onSubmit={(e) => {
                    e.preventDefault();
                    promote.mutate();
                  }}
                >
                  {(restamps || tried) && (
                    <Field
                      label="Version"
                      hint="Left empty, it follows from the snapshot. One for all, or package URLs with versions, one a line."
                    >
                      <TextInput
                        name="as"
                        value={as}
                        placeholder={p.planned[0]?.to}
                        onChange={(e) => setAs(e.target.value)}
                        onBlur={() => setTried(as)}
                      />
                    </Field>
                  )}
                  <Field label="Release notes">
                    <TextArea name="notes" rows={5} value={notes} onChange={(e) => setNotes(e.target.value)} />
                  </Field>
                  {(stuck || goOn) && restamps && (
                    <Tick checked={goOn} onChange={setGoOn}>
                      Go on although something cannot be changed without breaking it
                    </Tick>
                  )}
                  {promote.error && (
                    <div className="mb-3">
                      <ErrorNote error={promote.error} />
                    </div>
                  )}
                  <p className="mb-3 text-sm text-soft">
                    {p.state === "failed"
                      ? "As it is, it would fail; that would be on record."
                      : p.state === "waiting"
                        ? "It would wait for what the gates ask for, and then be done by itself."
                        : `All of it appears in ${p.to} together.`}
                  </p>
                  <Button
                    type="submit"
                    look="strong"
                    disabled={promote.isPending || p.state === "failed" || as !== tried}
                  >
                    {promote.isPending ? "Promoting…" : p.state === "waiting" ? "Ask for it" : `Promote to ${p.to}`}
                  </Button>
                </form>
              </Panel>
            </div>
          );
        }}
      </Loaded>
    </>
  );
}
