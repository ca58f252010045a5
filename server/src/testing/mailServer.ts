import type { AddressInfo } from 'node:net';
import { setTimeout as wait } from 'node:timers/promises';
import { type ParsedMail, simpleParser } from 'mailparser';
import { SMTPServer } from 'smtp-server';

/** A mail server (a package that is none of ours) that can be told to refuse, to be slow, and to go away. */
export class MailServer {
  readonly mails: ParsedMail[] = [];
  readonly url: string;
  /** An answer to every recipient other than yes. */
  refusesWith: number | undefined;
  slowMs = 0;
  readonly #server: SMTPServer;

  private constructor(server: SMTPServer, port: number) {
    this.#server = server;
    this.url = `smtp://127.0.0.1:${port}`;
  }

  static async start(port = 0): Promise<MailServer> {
    const server: SMTPServer = new SMTPServer({
      authOptional: true,
      disabledCommands: ['STARTTLS'],
      onRcptTo: (_address, _session, done) => {
        const responseCode = mail.refusesWith;
        done(responseCode === undefined ? null : Object.assign(new Error('no such mailbox'), { responseCode }));
      },
      onData: (stream, _session, done) => {
        simpleParser(stream)
          .then(async (parsed) => {
            await wait(mail.slowMs);
            mail.mails.push(parsed);
            done();
          })
          .catch((error: Error) => done(error));
      },
    });
    server.on('error', () => undefined);
    await new Promise<void>((done) => server.listen(port, '127.0.0.1', done));
    const mail = new MailServer(server, (server.server.address() as AddressInfo).port);
    return mail;
  }

  async stop(): Promise<void> {
    await new Promise<void>((done) => this.#server.close(done));
  }
}
