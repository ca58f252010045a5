/**
 * Edits a record of a stand-in as a person does, on its own page.
 * @param address of the stand-in
 * @param changes by the names of the form's fields; the others are sent as they stand
 * @throws {Error} when the page refuses
 */
export async function editOnPage(
  address: string,
  id: string,
  changes: Readonly<Record<string, string>>,
): Promise<void> {
  const page = await (await fetch(`${address}/records/${id}`)).text();
  const form = new URLSearchParams();
  for (const [, name, value] of page.matchAll(/<input id="[^"]*" name="([^"]*)" value="([^"]*)"/g))
    form.set(name as string, plain(value as string));
  for (const [, name, value] of page.matchAll(/<textarea id="[^"]*" name="([^"]*)" rows="4">([^<]*)</g))
    form.set(name as string, plain(value as string));
  for (const [name, value] of Object.entries(changes)) form.set(name, value);
  const answer = await fetch(`${address}/records/${id}`, { method: 'POST', body: form, redirect: 'manual' });
  if (answer.status !== 302) throw new Error(`the page answered ${answer.status}: ${await answer.text()}`);
}

const plain = (text: string): string =>
  text.replaceAll('&quot;', '"').replaceAll('&lt;', '<').replaceAll('&gt;', '>').replaceAll('&amp;', '&');
