/** A device as a list of devices has it. */
export interface Row {
  name: string;
  address: string;
  account: string;
  password: string;
  site?: string;
  role?: string;
}

const needed = ["name", "address", "account", "password"] as const;
const known: string[] = [...needed, "site", "role"];

/** Reads comma-separated values (RFC 4180 section 2) whose first line names the columns. */
export function rowsOf(text: string): Row[] {
  const [head, ...body] = fields(text.replace(/^\uFEFF/, ""));
  const columns = (head?.cells ?? []).map((c) => c.trim().toLowerCase());
  const missing = needed.filter((n) => !columns.includes(n));
  if (missing.length > 0) throw new Error(`The first line has no column ${missing.join(", ")}.`);
  const odd = columns.filter((c) => !known.includes(c));
  if (odd.length > 0) throw new Error(`The first line has columns that mean nothing here: ${odd.join(", ")}.`);
  return body.map(({ cells, line }) => {
    if (cells.length !== columns.length)
      throw new Error(`Line ${String(line)} has ${String(cells.length)} values, ${String(columns.length)} are needed.`);
    const row: Record<string, string> = {};
    columns.forEach((c, i) => {
      const cell = cells[i] ?? "";
      if (cell !== "" || needed.some((n) => n === c)) row[c] = c === "password" ? cell : cell.trim();
    });
    const empty = needed.filter((n) => row[n] === "");
    if (empty.length > 0) throw new Error(`Line ${String(line)} has no ${empty.join(", ")}.`);
    return row as unknown as Row;
  });
}

/** The lines of such a text with their cells; empty lines are passed over. */
function fields(text: string): { cells: string[]; line: number }[] {
  const out: { cells: string[]; line: number }[] = [];
  let cells: string[] = [];
  let cell = "";
  let quoted = false;
  let line = 1;
  let from = 1;
  const end = () => {
    cells.push(cell);
    if (cells.length > 1 || cells[0] !== "") out.push({ cells, line: from });
    [cells, cell] = [[], ""];
  };
  for (let i = 0; i < text.length; i++) {
    const c = text[i] ?? "";
    if (c === "\n") line++;
    if (quoted) {
      if (c !== '"') cell += c;
      else if (text[i + 1] === '"') {
        cell += '"';
        i++;
      } else quoted = false;
    } else if (c === '"' && cell === "") quoted = true;
    else if (c === ",") {
      cells.push(cell);
      cell = "";
    } else if (c === "\n") {
      end();
      from = line;
    } else if (c !== "\r") cell += c;
  }
  if (quoted) throw new Error(`A quotation that begins in line ${String(from)} does not end.`);
  if (cell !== "" || cells.length > 0) end();
  return out;
}
