// Delimited text, as a chart is taken away.

// What a spreadsheet would compute, in plain or wide form, is kept from it by an apostrophe (OWASP, CSV injection).
const FORMULA = /^[=+\-@\t\r\n＝＋－＠]/;
const NUMBER = /^[+-]?(\d+\.?\d*|\.\d+)(e[+-]?\d+)?$/i;

export function cell(value) {
  let text = String(value);
  if (FORMULA.test(text) && !NUMBER.test(text)) text = `'${text}`;
  return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
}

export const delimited = (rows) => rows.map((row) => row.map(cell).join(",")).join("\r\n");
