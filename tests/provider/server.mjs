// An OpenID Connect provider with the accounts of a file, for tests.
//
// node server.mjs PORT SERVICE_URL ACCOUNTS.json KEY_ID
import { readFileSync } from "node:fs";
import { generateKeyPair, exportJWK } from "jose";
import Provider from "oidc-provider";

const [port, service, accounts, keyId] = process.argv.slice(2);
const { privateKey } = await generateKeyPair("RS256", { extractable: true });
const key = { ...(await exportJWK(privateKey)), kid: keyId, alg: "RS256", use: "sig" };
const provider = new Provider(`http://127.0.0.1:${port}`, {
  clients: [
    {
      client_id: "fontanel",
      client_secret: "a secret of the client",
      redirect_uris: [`${service}/api/v1/session/provider/return`],
      backchannel_logout_uri: `${service}/api/v1/session/provider/logout`,
      backchannel_logout_session_required: true,
    },
  ],
  scopes: ["openid", "email", "profile", "groups"],
  claims: {
    openid: ["sub", "sid"],
    email: ["email", "email_verified"],
    profile: ["name"],
    groups: ["groups"],
  },
  features: { backchannelLogout: { enabled: true } },
  pkce: { required: () => true },
  cookies: { keys: ["a key of the tests"] },
  jwks: { keys: [key] },
  // Read at each sign-in, so that a test can change somebody's groups.
  findAccount: (_, id) => {
    const claims = JSON.parse(readFileSync(accounts, "utf8"))[id];
    return claims && { accountId: id, claims: () => ({ sub: id, ...claims }) };
  },
});
// Requests between services on this machine.
provider.proxy = true;
provider.listen(Number(port), "127.0.0.1", () => console.log("ready"));
