import { useState } from "react";

/** A small table as rows and columns; stored as CSV (RFC 4180). */
export function TableEditor({
  text,
  separator,
  onChange,
}: {
  text: string;
  separator: string;
  onChange: (text: string) => void;
}) {
  const [rows, setRows] = useState(() => parse(text, separator));
  const put = (next: string[][]) => {
    setRows(next);
    onChange(
      next.map((row) => row.map((cell) => quoted(cell, separator)).join(separator)).join("\n") +
        "\n",
    );
  };
  const width = Math.max(...rows.map((row) => row.length), 1);
  const set = (r: number, c: number, value: string) =>
    put(
      rows.map((row, i) =>
        i === r ? padded(row, width).map((cell, j) => (j === c ? value : cell)) : row,
      ),
    );
  return (
    <div className="sheet overflow-x-auto p-4">
      <table>
        <tbody>
          {rows.map((row, r) => (
            <tr key={r}>
              {padded(row, width).map((cell, c) => (
                <td key={c} className="p-0.5">
                  <input
                    className={`input input-sm w-44 ${r === 0 ? "font-semibold" : ""}`}
                    aria-label={
                      r === 0 ? `Heading of column ${c + 1}` : `Row ${r}, column ${c + 1}`
                    }
                    value={cell}
                    onChange={(event) => set(r, c, event.target.value)}
                  />
                </td>
              ))}
              <td>
                {r > 0 && (
                  <button
                    type="button"
                    className="soft cursor-pointer px-2"
                    aria-label={`Remove row ${r}`}
                    onClick={() => put(rows.filter((_, i) => i !== r))}
                  >
                    ×
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <div className="mt-3 flex gap-3">
        <button
          type="button"
          className="btn btn-sm"
          onClick={() => put([...rows, padded([], width)])}
        >
          Add a row
        </button>
        <button
          type="button"
          className="btn btn-sm"
          onClick={() => put(rows.map((row) => [...padded(row, width), ""]))}
        >
          Add a column
        </button>
      </div>
    </div>
  );
}

const padded = (row: string[], width: number) => [
  ...row,
  ...Array<string>(Math.max(0, width - row.length)).fill(""),
];

const quoted = (cell: string, separator: string) =>
  cell.includes(separator) || /["\n\r]/.test(cell) ? `"${cell.replaceAll('"', '""')}"` : cell;

/** Parse separated values; quotes may contain separators and line ends. */
function parse(text: string, separator: string): string[][] {
  const rows: string[][] = [];
  let row: string[] = [];
  let cell = "";
  let within = false;
  for (let at = 0; at < text.length; at++) {
    const letter = text[at]!;
    if (within) {
      if (letter === '"' && text[at + 1] === '"') {
        cell += '"';
        at++;
      } else if (letter === '"') within = false;
      else cell += letter;
    } else if (letter === '"' && cell === "") within = true;
    else if (letter === separator) {
      row.push(cell);
      cell = "";
    } else if (letter === "\n") {
      rows.push([...row, cell]);
      row = [];
      cell = "";
    } else if (letter !== "\r") cell += letter;
  }
  if (cell || row.length) rows.push([...row, cell]);
  return rows.length ? rows : [[""]];
}
