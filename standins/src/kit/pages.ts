/** Text made safe for HTML. */
export function escapeHtml(value: unknown): string {
  return String(value ?? '')
    .replaceAll('&', '&amp;')
    .replaceAll('<', '&lt;')
    .replaceAll('>', '&gt;')
    .replaceAll('"', '&quot;');
}

/** Pages that a stand-in has beside its records and faults. */
const morePages = new Map<string, Map<string, string>>();

export function addPage(system: string, path: string, label: string): void {
  morePages.set(system, (morePages.get(system) ?? new Map<string, string>()).set(path, label));
}

/** A page of a stand-in: deliberately plain, since it plays another company's program. */
export function page(system: string, title: string, body: string): string {
  const more = [...(morePages.get(system) ?? [])].map(([path, label]) => `<a href="${path}">${escapeHtml(label)}</a>`);
  return `<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport"
    content="width=device-width"><title>${escapeHtml(title)} · ${escapeHtml(system)}</title><style>
body{font:15px/1.45 Georgia,serif;margin:0 auto;max-width:980px;padding:1rem;color:#222;background:#fff}
h1{font-size:1.25rem}nav a{margin-right:1rem}table{border-collapse:collapse;width:100%}th,td{border-bottom:1px solid
  #ccc;padding:.25rem .5rem;text-align:left;vertical-align:top;font-weight:normal}
thead th{font-weight:bold}input,textarea,select{font:inherit;width:100%;box-sizing:border-box;padding:.2rem}
input[type=checkbox]{width:auto}button{font:inherit;padding:.3rem 1rem}</style></head><body>
<nav><strong>${escapeHtml(system)}</strong> &nbsp; <a href="/">Records</a><a href="/new">New record</a><a
  href="/faults">Faults</a>${more.join('')}</nav><h1>${escapeHtml(title)}</h1>${body}</body></html>`;
}

/** A row of a table. @param cells as HTML */
export function tableRow(cells: readonly string[]): string {
  return `<tr>${cells.map((cell) => `<td>${cell}</td>`).join('')}</tr>`;
}

/** @param columns what they are called @param rows as HTML */
export function table(columns: readonly string[], rows: readonly string[]): string {
  const head = columns.map((name) => `<th>${escapeHtml(name)}</th>`).join('');
  return `<table><thead><tr>${head}</tr></thead><tbody>${rows.join('')}</tbody></table>`;
}

export interface PageField {
  readonly name: string;
  readonly label: string;
  readonly long?: boolean;
}

export function recordForm(
  fields: readonly PageField[],
  values: Readonly<Record<string, unknown>>,
  action: string,
): string {
  const rows = fields.map(({ name, label, long }) => {
    const value = escapeHtml(values[name]);
    const control = long
      ? `<textarea id="${name}" name="${name}" rows="4">${value}</textarea>`
      : `<input id="${name}" name="${name}" value="${value}">`;
    return `<tr><th style="width:12rem"><label for="${name}">${escapeHtml(label)}</label></th><td>${control}</td></tr>`;
  });
  const save = '<p><button>Save</button></p>';
  return `<form method="post" action="${escapeHtml(action)}"><table>${rows.join('')}</table>${save}</form>`;
}

const rowsShown = 100;

/** A searchable list; each row leads to its record. @param at where records are */
export function recordTable(
  query: string,
  columns: readonly string[],
  rows: readonly { readonly id: string; readonly cells: readonly unknown[] }[],
  at = '/records',
): string {
  const wanted = query.trim().toLowerCase();
  const found =
    wanted === ''
      ? rows
      : rows.filter(({ id, cells }) =>
          [id, ...cells].some((cell) =>
            String(cell ?? '')
              .toLowerCase()
              .includes(wanted),
          ),
        );
  const body = found
    .slice(0, rowsShown)
    .map(({ id, cells }) =>
      tableRow([`<a href="${at}/${encodeURIComponent(id)}">${escapeHtml(id)}</a>`, ...cells.map(escapeHtml)]),
    );
  const count = found.length > rowsShown ? `the first ${rowsShown} of ${found.length}` : `${found.length}`;
  return `<form><input name="q" aria-label="Search" placeholder="Search"
    value="${escapeHtml(query)}"></form>
    <p>${count} records</p>${table(['Id', ...columns], body)}`;
}
