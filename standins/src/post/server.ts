import { randomUUID } from 'node:crypto';
import type { FastifyInstance } from 'fastify';
import { type ParsedMail, simpleParser } from 'mailparser';
import { SMTPServer } from 'smtp-server';
import { escapeHtml, page, table, tableRow } from '../kit/pages.js';
import { RecordLog } from '../kit/recordLog.js';
import { standInServer } from '../kit/serve.js';

export interface PostOptions {
  readonly dataFile?: string;
  /** On loopback; 0 takes a free one. */
  readonly smtpPort: number;
}

/** A message that was caught. */
export interface CaughtMail {
  readonly id: string;
  readonly from: string;
  readonly to: readonly string[];
  readonly subject: string;
  readonly text: string;
  readonly receivedAt: string;
}

const name = 'Gull Post';
const largestBytes = 10 * 1024 * 1024;

/** Gull Post: takes any mail by SMTP (RFC 5321), sends none on, and shows what came. */
export async function postServer({
  dataFile,
  smtpPort,
}: PostOptions): Promise<{ app: FastifyInstance; smtpPort: number }> {
  const app = await standInServer();
  const caught = new RecordLog<CaughtMail>(dataFile);
  let refusing = false;
  const smtp = new SMTPServer({
    authOptional: true,
    disabledCommands: ['STARTTLS'],
    size: largestBytes,
    onAuth: (auth, _session, done) => done(null, { user: auth.username ?? '' }),
    onRcptTo: (_address, _session, done) =>
      done(refusing ? Object.assign(new Error('mailbox unavailable'), { responseCode: 550 }) : null),
    onData: (stream, session, done) => {
      simpleParser(stream).then(
        (mail: ParsedMail) => {
          const to = session.envelope.rcptTo.map(({ address }) => address);
          const from = session.envelope.mailFrom === false ? '' : session.envelope.mailFrom.address;
          caught.put({
            id: randomUUID(),
            from,
            to,
            subject: mail.subject ?? '',
            text: mail.text ?? '',
            receivedAt: new Date().toISOString(),
          });
          done();
        },
        (error: Error) => done(error),
      );
    },
  });
  await new Promise<void>((done, failed) => {
    smtp.once('error', failed);
    smtp.listen(smtpPort, '127.0.0.1', done);
  });
  smtp.on('error', () => undefined);
  const port = (smtp.server.address() as { port: number }).port;

  app.get('/', async (_, reply) => {
    const rows = caught
      .all()
      .toReversed()
      .slice(0, 200)
      .map(({ id, from, to, subject, receivedAt }) =>
        tableRow([
          `<a href="/mail/${id}">${escapeHtml(subject || 'no subject')}</a>`,
          ...[from, to.join(', '), receivedAt].map(escapeHtml),
        ]),
      );
    const list = table(['Subject', 'From', 'To', 'Received'], rows);
    return reply.type('text/html').send(
      page(
        name,
        'Mail',
        `<p>Listens for SMTP at 127.0.0.1:${port}; nothing is sent
            on.</p>${rows.length > 0 ? list : '<p>Nothing has come yet.</p>'}`,
      ),
    );
  });
  app.get('/mail.json', async () => ({ mail: caught.all() }));
  app.get('/mail/:id', async (request, reply) => {
    const mail = caught.get((request.params as { id: string }).id);
    if (!mail)
      return reply
        .code(404)
        .type('text/html')
        .send(page(name, 'No such mail', ''));
    return reply.type('text/html').send(
      page(
        name,
        mail.subject || 'no subject',
        `<p>From ${escapeHtml(mail.from)} to ${escapeHtml(mail.to.join(', '))},
            ${mail.receivedAt}</p><pre>${escapeHtml(mail.text)}</pre>`,
      ),
    );
  });
  app.get('/faults', async (_, reply) =>
    reply.type('text/html').send(
      page(
        name,
        'Faults',
        `<form method="post" action="/faults"><p><label><input type="checkbox"
            name="refusing"${refusing ? ' checked' : ''}> Every recipient is
              refused</label></p><p><button>Switch</button></p></form>`,
      ),
    ),
  );
  app.post('/faults', async (request, reply) => {
    refusing = (request.body as { refusing?: string }).refusing === 'on';
    return reply.redirect('/faults');
  });
  app.addHook('onClose', async () => new Promise<void>((done) => smtp.close(() => done())));
  return { app, smtpPort: port };
}
