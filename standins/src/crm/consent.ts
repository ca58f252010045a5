import { generateKeyPairSync, randomBytes } from 'node:crypto';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import type { Provider } from 'oidc-provider';
import { addPage, escapeHtml, page } from '../kit/pages.js';
import { RecordLog } from '../kit/recordLog.js';

export interface ConsentOptions {
  /** Of the system. */
  readonly name: string;
  readonly clientId: string;
  readonly clientSecret: string;
  readonly dataFile?: string | undefined;
}

export interface ConsentFace {
  /** What a bearer token allows; `undefined` when it is no good. */
  scopesOf(token: string): Promise<ReadonlySet<string> | undefined>;
}

const tokenSeconds = 120;
const scopes = {
  'accounts.read': 'Read accounts, people and deals',
  'accounts.write': 'Create and change them',
  offline_access: 'Stay signed in while you are away',
} as const;

/**
 * Sign-in by a person's consent at the CRM: OAuth 2.0 authorization code with PKCE, refresh and revocation, by the
 * oidc-provider package. A person says who may come back where, gives consent on a page, and takes it back on another.
 */
export function registerConsent(
  app: FastifyInstance,
  { name, clientId, clientSecret, dataFile }: ConsentOptions,
): ConsentFace {
  /** Addresses that people are sent back to; an administrator of the CRM enters them. */
  const callbacks = new RecordLog<{ id: string }>(dataFile === undefined ? undefined : `${dataFile}.callbacks`);
  let made: Provider | undefined;
  let making: Promise<Provider> | undefined;
  const grants = new Set<string>();

  /** The address is only known once somebody asks; the package is loaded then. */
  function provider(request: FastifyRequest): Promise<Provider> {
    return (making ??= makeProvider(request));
  }

  async function makeProvider(request: FastifyRequest): Promise<Provider> {
    const { Provider } = await import('oidc-provider');
    made = new Provider(`${request.protocol}://${request.host}/oidc`, {
      clients: [
        {
          client_id: clientId,
          client_secret: clientSecret,
          redirect_uris: ['https://callback.invalid/'],
          grant_types: ['authorization_code', 'refresh_token'],
          response_types: ['code'],
          token_endpoint_auth_method: 'client_secret_basic',
          id_token_signed_response_alg: 'ES256',
        },
      ],
      jwks: {
        keys: [
          {
            ...generateKeyPairSync('ec', { namedCurve: 'P-256' }).privateKey.export({ format: 'jwk' }),
            use: 'sig',
            alg: 'ES256',
          } as never,
        ],
      },
      scopes: Object.keys(scopes),
      features: {
        devInteractions: { enabled: false },
        revocation: {
          enabled: true,
          allowedPolicy: async (_context, client, token) => token.clientId === client.clientId,
        },
        rpInitiatedLogout: { enabled: false },
      },
      pkce: { required: () => true },
      rotateRefreshToken: true,
      issueRefreshToken: async (_context, client, code) =>
        client.grantTypeAllowed('refresh_token') && code.scopes.has('offline_access'),
      interactions: { url: (_context, interaction) => `/consent/${interaction.uid}` },
      findAccount: async (_context, id) => ({ accountId: id, claims: async () => ({ sub: id }) }),
      ttl: {
        AccessToken: tokenSeconds,
        AuthorizationCode: 60,
        Interaction: 900,
        Session: 3600,
        Grant: 90 * 86_400,
        RefreshToken: 90 * 86_400,
      },
      cookies: { keys: [randomBytes(24).toString('base64url')] },
      conformIdTokenClaims: false,
    });
    (
      made.Client as unknown as { prototype: { redirectUriAllowed: (uri: string) => boolean } }
    ).prototype.redirectUriAllowed = (uri) => callbacks.get(uri) !== undefined;
    return made;
  }

  void app.register(async (mounted) => {
    // The package reads requests by itself.
    mounted.removeAllContentTypeParsers();
    mounted.addContentTypeParser('*', (_request, _payload, done) => done(null));
    mounted.all('/oidc/*', async (request, reply) => {
      reply.hijack();
      Object.assign(request.raw, { originalUrl: request.raw.url });
      request.raw.url = (request.raw.url as string).slice('/oidc'.length);
      await (await provider(request)).callback()(request.raw, reply.raw);
    });
  });

  const html = (reply: FastifyReply, title: string, body: string): FastifyReply =>
    reply.type('text/html').send(page(name, title, body));

  app.get('/consent/:uid', async (request, reply) => {
    const { params } = await (await provider(request)).interactionDetails(request.raw, reply.raw);
    const wanted = String(params.scope ?? '').split(' ');
    const rows = wanted.flatMap((scope) =>
      scope in scopes ? [`<li>${scopes[scope as keyof typeof scopes]}</li>`] : [],
    );
    const action = escapeHtml(request.url);
    return html(
      reply,
      'An application asks for access',
      `<p><strong>${escapeHtml(params.client_id)}</strong> wants to sign in to ${escapeHtml(name)} as <label
        for="who">the account</label>:</p>
       <form method="post" action="${action}"><p><input id="who" name="who" value="service.exchange"></p><p>It may
         then:</p><ul>${rows.join('') || '<li>Nothing in particular</li>'}</ul>
       <p><button name="answer" value="allow">Allow</button> <button name="answer"
         value="deny">Deny</button></p></form>`,
    );
  });
  app.post('/consent/:uid', async (request, reply) => {
    const oidc = await provider(request);
    const { params } = await oidc.interactionDetails(request.raw, reply.raw);
    const { who = '', answer } = request.body as { who?: string; answer?: string };
    let result: object = { error: 'access_denied', error_description: 'the person denied access' };
    if (answer === 'allow') {
      const grant = new oidc.Grant({ accountId: who || 'service.exchange', clientId: String(params.client_id) });
      grant.addOIDCScope(String(params.scope ?? ''));
      const grantId = await grant.save();
      grants.add(grantId);
      result = { login: { accountId: who || 'service.exchange' }, consent: { grantId } };
    }
    const back = await oidc.interactionResult(request.raw, reply.raw, result as never, {
      mergeWithLastSubmission: false,
    });
    return reply.redirect(back);
  });

  addPage(name, '/applications', 'Connected applications');
  app.get('/applications', async (_, reply) =>
    html(
      reply,
      'Connected applications',
      `<p>Client id <strong>${escapeHtml(clientId)}</strong>. People are sent back to:</p><ul>${callbacks
        .all()
        .map(({ id }) => `<li>${escapeHtml(id)}</li>`)
        .join(
          '',
        )}</ul><form method="post" action="/applications"><p><label for="callback">Callback address</label> <input
          id="callback" name="callback"></p><p><button>Allow this address</button></p></form>
       <p>${grants.size} consents given.</p><form method="post" action="/applications/revoke"><p><button>Take all
         consents back</button></p></form>`,
    ),
  );
  app.post('/applications', async (request, reply) => {
    const { callback = '' } = request.body as { callback?: string };
    if (URL.canParse(callback)) callbacks.put({ id: callback });
    return reply.redirect('/applications');
  });
  app.post('/applications/revoke', async (request, reply) => {
    const oidc = await provider(request);
    for (const id of grants) {
      await oidc.Grant.adapter.destroy(id);
      await oidc.AccessToken.adapter.revokeByGrantId(id);
      await oidc.RefreshToken.adapter.revokeByGrantId(id);
    }
    grants.clear();
    return reply.redirect('/applications');
  });

  return {
    scopesOf: async (token) => {
      const found = await made?.AccessToken.find(token);
      return found && !found.isExpired ? new Set([...(found.scopes ?? [])]) : undefined;
    },
  };
}
