import { api, type Account } from "../../lib/api";
import { shortDay } from "../../lib/show";
import { Button, Dialog, DialogActions, Field, useToast } from "../../ui";

export interface Invitation {
  name: string;
  address: string;
  expires: string;
  mailed: boolean;
}

/** Makes the address by which somebody chooses a password. */
export async function invite(account: Account): Promise<Invitation> {
  const made = await api.invite(account.sign_in);
  return {
    name: account.display_name,
    address: new URL(made.address, window.location.origin).href,
    expires: made.expires,
    mailed: made.mailed,
  };
}

/** The address of an invitation, to be passed on: it is shown only here. */
export function PassOn({ invitation, onClose }: { invitation: Invitation; onClose: () => void }) {
  const toast = useToast();
  const copy = () =>
    void navigator.clipboard.writeText(invitation.address).then(
      () => toast.say("Copied."),
      () => toast.say("The browser does not let us copy. Select the address and copy it."),
    );
  return (
    <Dialog
      open
      onClose={onClose}
      title={invitation.mailed ? `Sent to ${invitation.name}` : `Pass this on to ${invitation.name}`}
      description={`${invitation.mailed ? "It goes out by mail; you can pass it on as well. " : ""}With this address they choose a password. It counts once, until ${shortDay(new Date(invitation.expires))}, and is shown only here.`}
    >
      <Field
        label="Address"
        readOnly
        value={invitation.address}
        onFocus={(e) => e.target.select()}
        className="font-mono text-[14px]"
      />
      <DialogActions>
        <Button onClick={copy}>Copy</Button>
        <Button look="primary" onClick={onClose}>
          Done
        </Button>
      </DialogActions>
    </Dialog>
  );
}
