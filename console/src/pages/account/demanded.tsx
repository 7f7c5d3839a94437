import { useQuery, useQueryClient } from "@tanstack/react-query";
import { KeyRound, Smartphone } from "lucide-react";
import { useState } from "react";
import { api } from "../../lib/api";
import { canPasskey } from "../../lib/passkeys";
import { Bare, Button, Notice } from "../../ui";
import { RecoveryCodes, SetUp } from "./factors";
import { key } from "../../lib/query-keys";

/** All that can be done when a second factor is demanded and there is none. */
export default function FactorDemanded({ onSignOut }: { onSignOut: () => void }) {
  const queries = useQueryClient();
  const factors = useQuery({ queryKey: key("factors"), queryFn: api.factors });
  const [setting, setSetting] = useState<"codes" | "passkey">();
  const [codes, setCodes] = useState<string[]>();
  const go = () => void queries.invalidateQueries();
  return (
    <Bare title="A second factor is needed">
      <p className="text-muted">
        A rule demands one: beside the password, something you have. Set it up once; after that you go on as
        ever.
      </p>
      {factors.isError && <Notice error={factors.error} retry={() => void factors.refetch()} />}
      <div className="mt-5 flex flex-col gap-3">
        <Button look="primary" icon={<Smartphone size={18} />} onClick={() => setSetting("codes")}>
          Use an authenticator app
        </Button>
        {canPasskey && factors.data?.passkeys && (
          <Button icon={<KeyRound size={18} />} onClick={() => setSetting("passkey")}>
            Use a passkey
          </Button>
        )}
        <Button look="quiet" onClick={onSignOut}>
          Sign out
        </Button>
      </div>
      {setting && (
        <SetUp
          kind={setting}
          onClose={() => setSetting(undefined)}
          onDone={(made) => {
            setSetting(undefined);
            if (made.length > 0) setCodes(made);
            else go();
          }}
        />
      )}
      {codes && (
        <RecoveryCodes
          codes={codes}
          onClose={() => {
            setCodes(undefined);
            go();
          }}
        />
      )}
    </Bare>
  );
}
