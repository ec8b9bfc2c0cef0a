import { type Schemas } from "../api/client";
import { bytes, packagePath, shortVersion } from "../ui/format";
import { Link } from "react-router";
import { type Column, Table } from "../ui/table";

type Step = Schemas["MadeStep"];

/**
 * Steps lists layers with what made them, the lowest first; ecosystem is that of the packages which share them.
 * part: they are only some of the layers, and have no numbers.
 */
export function Steps({
  name,
  steps,
  ecosystem,
  part,
}: {
  name: string;
  steps: Step[];
  ecosystem?: string;
  part?: boolean;
}) {
  const largest = Math.max(...steps.map((s) => s.bytes), 1);
  let layer = 0;
  const rows = steps.map((step, at) => ({ step, at, number: step.layer ? ++layer : 0 }));
  type Row = (typeof rows)[number];
  const numbers: Column<Row> = {
    head: "Layer",
    look: "w-14 text-soft tabular-nums",
    cell: ({ number }) => number || "",
  };
  const columns: Column<Row>[] = [
    ...(part ? [] : [numbers]),
    {
      head: "Made by",
      cell: ({ step }) => (
        <>
          <span
            className={`line-clamp-2 font-mono text-xs wrap-anywhere ${step.layer ? "" : "text-soft"}`}
            title={step.by}
          >
            {step.by || <span className="font-sans text-soft">not said</span>}
          </span>
          {step.layer && (
            <span className="block font-mono text-xs text-soft" title={step.layer}>
              {shortVersion(step.layer)}
            </span>
          )}
          {ecosystem && step.sharing && (
            <span className="block text-xs text-soft">
              also in{" "}
              {step.sharing.map((other, i) => (
                <span key={other}>
                  {i > 0 && ", "}
                  <Link to={packagePath(`${ecosystem}/${other}`)}>{other}</Link>
                </span>
              ))}
            </span>
          )}
        </>
      ),
    },
    {
      head: "Size",
      right: true,
      look: "w-32",
      cell: ({ step }) =>
        step.layer && (
          <>
            {bytes(step.bytes)}
            <span aria-hidden className="mt-1 flex h-1 justify-end">
              <span className="rounded-xs bg-deep" style={{ width: `${Math.max((step.bytes / largest) * 100, 1)}%` }} />
            </span>
          </>
        ),
    },
  ];
  return <Table name={name} dense estimate={56} rows={rows} rowKey={(row) => row.at} columns={columns} />;
}
