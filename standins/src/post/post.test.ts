/** Mail sent by a client that we did not write is caught, shown and kept; refusals are told. */
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { createTransport } from 'nodemailer';
import { type CaughtMail, postServer } from './server.js';

test('what is sent is on the page, also after a restart; nothing gets into the page as markup', async () => {
  const folder = mkdtempSync(join(tmpdir(), 'gull-post-'));
  const open = async () => {
    const { app, smtpPort } = await postServer({ dataFile: join(folder, 'mail.jsonl'), smtpPort: 0 });
    return { app, smtpPort, address: await app.listen({ host: '127.0.0.1', port: 0 }) };
  };
  const first = await open();
  const transport = createTransport({ host: '127.0.0.1', port: first.smtpPort, secure: false });
  await transport.sendMail({
    from: 'a@x.example',
    to: ['b@x.example', 'c@x.example'],
    subject: 'Grüße <script>alert(1)</script>',
    text: 'Ein Text & mehr 🌱',
  });
  const { mail } = (await (await fetch(`${first.address}/mail.json`)).json()) as { mail: CaughtMail[] };
  expect(mail).toMatchObject([
    {
      from: 'a@x.example',
      to: ['b@x.example', 'c@x.example'],
      subject: 'Grüße <script>alert(1)</script>',
      text: 'Ein Text & mehr 🌱\n',
    },
  ]);
  const page = await (await fetch(`${first.address}/mail/${mail[0]?.id ?? ''}`)).text();
  expect(page).toContain('Grüße &lt;script&gt;');
  expect(page).not.toContain('<script>');
  await fetch(`${first.address}/faults`, {
    method: 'POST',
    body: new URLSearchParams({ refusing: 'on' }),
    redirect: 'manual',
  });
  await expect(transport.sendMail({ from: 'a@x.example', to: 'b@x.example', subject: 'x', text: 'y' })).rejects.toThrow(
    /mailbox unavailable/,
  );
  transport.close();
  await first.app.close();
  const second = await open();
  expect(await (await fetch(second.address)).text()).toContain('Grüße');
  await second.app.close();
  rmSync(folder, { recursive: true });
});
