/** Passkeys: what the service asks and the browser answers, both as JSON (WebAuthn level 3). */

function bytes(encoded: string): ArrayBuffer {
  const plain = atob(encoded.replace(/-/g, "+").replace(/_/g, "/"));
  return Uint8Array.from(plain, (c) => c.charCodeAt(0)).buffer;
}

function text(buffer: ArrayBuffer | null): string {
  const plain = String.fromCharCode(...new Uint8Array(buffer ?? new ArrayBuffer(0)));
  return btoa(plain).replace(/\+/g, "-").replace(/\//g, "_").replace(/=+$/, "");
}

interface Described {
  id: string;
  type: "public-key";
  transports?: AuthenticatorTransport[];
}

/** What is asked, with its bytes as text. */
interface Asked {
  challenge: string;
  user?: { id: string; name: string; displayName: string };
  excludeCredentials?: Described[];
  allowCredentials?: Described[];
}

const described = (list: Described[] | undefined) => list?.map((d) => ({ ...d, id: bytes(d.id) }));

/** Whether this browser can use passkeys here. */
export const canPasskey = typeof window !== "undefined" && "PublicKeyCredential" in window;

/** Makes a passkey. */
export async function makePasskey(options: unknown): Promise<unknown> {
  const { publicKey: asked } = options as { publicKey: Asked };
  const user = asked.user!;
  const made = (await navigator.credentials.create({
    publicKey: {
      ...(asked as unknown as PublicKeyCredentialCreationOptions),
      challenge: bytes(asked.challenge),
      user: { ...user, id: bytes(user.id) },
      excludeCredentials: described(asked.excludeCredentials),
    },
  })) as PublicKeyCredential;
  const answer = made.response as AuthenticatorAttestationResponse;
  return {
    id: made.id,
    rawId: text(made.rawId),
    type: made.type,
    extensions: {},
    response: {
      attestationObject: text(answer.attestationObject),
      clientDataJSON: text(answer.clientDataJSON),
    },
  };
}

/** Uses one. */
export async function withPasskey(options: unknown): Promise<unknown> {
  const { publicKey: asked } = options as { publicKey: Asked };
  const used = (await navigator.credentials.get({
    publicKey: {
      ...(asked as unknown as PublicKeyCredentialRequestOptions),
      challenge: bytes(asked.challenge),
      allowCredentials: described(asked.allowCredentials),
    },
  })) as PublicKeyCredential;
  const answer = used.response as AuthenticatorAssertionResponse;
  return {
    id: used.id,
    rawId: text(used.rawId),
    type: used.type,
    extensions: {},
    response: {
      authenticatorData: text(answer.authenticatorData),
      clientDataJSON: text(answer.clientDataJSON),
      signature: text(answer.signature),
      userHandle: answer.userHandle ? text(answer.userHandle) : null,
    },
  };
}
