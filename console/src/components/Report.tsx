import { Fragment } from "react";
import type { Schemas } from "../api/client";
import { count, percent } from "./text";

/** The reading report of a document, in numbers. */
export function reportFacts(report: Schemas["ReportOut"]): [string, string][] {
  const blocks = Object.entries(report.blocks).map(
    ([kind, number]) => `${count(number)} ${kind}${number === 1 ? "" : "s"}`,
  );
  const facts: [string, string][] = [
    [`${report.unit[0]!.toUpperCase()}${report.unit.slice(1)}s`, count(report.pages)],
    ["Words", count(report.words)],
    ["Blocks", blocks.join(", ") || "–"],
    ["Language", report.language],
  ];
  if (report.left_out)
    facts.push(["Left out", `${count(report.left_out)} blocks that repeat on other pages`]);
  if (report.table_rows) facts.push(["Table rows", count(report.table_rows)]);
  if (report.figures) facts.push(["Pictures", count(report.figures)]);
  if (report.recognised.length) {
    const mean =
      report.recognised.reduce((sum, [, confidence]) => sum + confidence, 0) /
      report.recognised.length;
    facts.push([
      "Recognised",
      `${count(report.recognised.length)} ${report.unit}s, confidence ${percent(mean)}`,
    ]);
  }
  return facts;
}

/** Names and values in two columns. */
export function Facts({
  facts,
  warnings = [],
}: {
  facts: [string, React.ReactNode][];
  warnings?: string[];
}) {
  return (
    <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 p-4">
      {facts.map(([name, value]) => (
        <Fragment key={name}>
          <dt className="soft">{name}</dt>
          <dd className="tabular-nums">{value}</dd>
        </Fragment>
      ))}
      {warnings.map((warning) => (
        <dd key={warning} className="text-warning col-span-2">
          {warning}
        </dd>
      ))}
    </dl>
  );
}
