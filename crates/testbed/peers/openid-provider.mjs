// A provider of OpenID Connect for the tests: the well-kept `oidc-provider` package with one client and people out of a file, which
// is read anew at each question, so that groups can change. Takes: the console's folder (whose packages it uses), its port, the file
// of people, and the service's address.
import { createRequire } from "node:module";
import { generateKeyPairSync } from "node:crypto";
import { createServer } from "node:http";
import { readFileSync } from "node:fs";
import { pathToFileURL } from "node:url";

const [consoleFolder, port, peopleFile, service] = process.argv.slice(2);
const require = createRequire(`${consoleFolder}/package.json`);
const { default: Provider } = await import(pathToFileURL(require.resolve("oidc-provider")).href);

const people = () => JSON.parse(readFileSync(peopleFile, "utf8"));
const key = generateKeyPairSync("rsa", { modulusLength: 2048 }).privateKey.export({ format: "jwk" });
const issuer = `http://127.0.0.1:${port}`;

const provider = new Provider(issuer, {
  clients: [
    {
      client_id: "gubernum",
      client_secret: "quince-and-medlar-quince-and-medlar",
      redirect_uris: [`${service}/api/v1/openid/callback`],
      post_logout_redirect_uris: [`${service}/`],
      backchannel_logout_uri: `${service}/api/v1/openid/logout`,
      backchannel_logout_session_required: true,
      grant_types: ["authorization_code", "refresh_token"],
      response_types: ["code"],
    },
  ],
  jwks: { keys: [{ ...key, kid: "first", use: "sig", alg: "RS256" }] },
  cookies: { keys: ["only for tests"] },
  claims: { openid: ["sub"], profile: ["preferred_username", "name"], groups: ["groups"] },
  scopes: ["openid", "offline_access", "profile", "groups"],
  pkce: { required: () => true },
  // The package asks no addresses of loopback by itself; here everything is on loopback.
  fetch: (url, options) => globalThis.fetch(url, { ...options, dispatcher: undefined }),
  features: { devInteractions: { enabled: false }, backchannelLogout: { enabled: true } },
  interactions: { url: (_, interaction) => `/sign-in/${interaction.uid}` },
  findAccount: (_, id) => {
    const person = people()[id];
    if (!person) return undefined;
    return {
      accountId: id,
      claims: () => ({ sub: id, preferred_username: person.name, name: person.name, groups: person.groups }),
    };
  },
});

const page = (uid, words) => `<!doctype html><html lang="en"><title>Tarn Valley sign-in</title><main><h1>Tarn Valley sign-in</h1>
<p>${words}</p><form method="post" action="/sign-in/${uid}"><label>Name <input name="name" autofocus></label>
<label>Password <input name="password" type="password"></label><button>Sign in</button></form></main></html>`;

async function body(request) {
  let text = "";
  for await (const piece of request) text += piece;
  return new URLSearchParams(text);
}

async function signIn(request, response) {
  const details = await provider.interactionDetails(request, response);
  const { uid, prompt, params, session } = details;
  if (prompt.name === "login") {
    if (request.method !== "POST") {
      return response.writeHead(200, { "content-type": "text/html" }).end(page(uid, ""));
    }
    const form = await body(request);
    const found = Object.entries(people()).find(([, p]) => p.name === form.get("name"));
    if (!found || found[1].password !== form.get("password")) {
      return response.writeHead(200, { "content-type": "text/html" }).end(page(uid, "Wrong name or password."));
    }
    return provider.interactionFinished(request, response, { login: { accountId: found[0] } });
  }
  const grant = new provider.Grant({ accountId: session.accountId, clientId: params.client_id });
  grant.addOIDCScope("openid profile groups offline_access");
  return provider.interactionFinished(request, response, { consent: { grantId: await grant.save() } });
}

const handle = provider.callback();
createServer((request, response) => {
  if (request.url.startsWith("/sign-in/")) {
    signIn(request, response).catch((error) => {
      console.error(error);
      response.writeHead(500).end();
    });
  } else {
    handle(request, response);
  }
}).listen(Number(port), "127.0.0.1", () => console.log("ready"));
