// A provider of OpenID Connect on loopback: node provider.mjs ORIGIN CLIENT SECRET REDIRECT... The people of PEOPLE (JSON) sign in with any password.
import Provider from 'oidc-provider'

const [origin, client, secret, ...redirects] = process.argv.slice(2)
const people = JSON.parse(process.env.PEOPLE)
const names = { profile: ['preferred_username'], email: ['email', 'email_verified'], groups: ['groups'] }
const provider = new Provider(origin, {
  clients: [{ client_id: client, client_secret: secret, redirect_uris: redirects, grant_types: ['authorization_code'], response_types: ['code'] }],
  claims: { openid: ['sub'], ...names },
  scopes: ['openid', 'profile', 'email', 'groups'],
  pkce: { required: () => true },
  features: { devInteractions: { enabled: true } },
  cookies: { keys: ['not-a-secret'] },
  findAccount: (_, id) => people[id] && { accountId: id, claims: () => ({ sub: people[id].sub ?? id, ...people[id] }) },
})
provider.listen(new URL(origin).port, '127.0.0.1')
