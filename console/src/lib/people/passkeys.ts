/** Passkeys in this browser: what it can do, and what its device made or signed, as text. */

/** Why this browser has none here; empty: it has. */
export function whyNone(): string {
  if (/^[\d.]+$|:/.test(location.hostname)) {
    const here = `http://localhost${location.port ? `:${location.port}` : ''}`;
    return location.hostname.startsWith('127.')
      ? `Browsers have passkeys for names only: open the console at ${here}.`
      : 'Browsers have passkeys for names only: open the console by its name, with https.';
  }
  if (!window.isSecureContext) return 'Browsers have passkeys with https only.';
  if (!('PublicKeyCredential' in window) || !PublicKeyCredential.parseCreationOptionsFromJSON)
    return 'This browser has no passkeys.';
  return '';
}

const asText = (credential: Credential | null) =>
  JSON.stringify((credential as PublicKeyCredential).toJSON());

/** A key that the device makes, once its user agrees. */
export async function make(options: string): Promise<string> {
  const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(
    JSON.parse(options) as PublicKeyCredentialCreationOptionsJSON
  );
  return asText(await navigator.credentials.create({ publicKey }));
}

/** What the device signs, once its user agrees. */
export async function sign(options: string): Promise<string> {
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(
    JSON.parse(options) as PublicKeyCredentialRequestOptionsJSON
  );
  return asText(await navigator.credentials.get({ publicKey }));
}

/** What went wrong on the device, in words. */
export function inDeviceWords(error: unknown): string {
  const name = error instanceof Error ? error.name : '';
  if (name === 'NotAllowedError') return 'The device did not agree, or it took too long.';
  if (name === 'InvalidStateError') return 'This device has a passkey of yours already.';
  return 'The device has no passkey for here.';
}
