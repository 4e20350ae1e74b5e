import { Dialog, DialogActions, DialogContent, DialogTitle } from "@mui/material";
import { useState } from "react";
import { call, type Me } from "../api/client";
import { KEYS } from "../api/keys";
import { client } from "../api/queries";
import { Button } from "../ui/Button";

/** A new password for the person signed in; a first one for who came by a link. */
export function PasswordDialog({ me, onClose }: { me: Me; onClose: () => void }) {
  const [now, setNow] = useState("");
  const [next, setNext] = useState("");
  const [error, setError] = useState("");
  const [done, setDone] = useState(false);
  const change = async (event: React.FormEvent) => {
    event.preventDefault();
    try {
      await call("POST", "/accounts/password", { now, new: next });
      setError("");
      setDone(true);
      client.invalidateQueries({ queryKey: KEYS.me() });
    } catch (failure) {
      setError((failure as Error).message);
    }
  };
  return (
    <Dialog open onClose={onClose} aria-labelledby="password-title">
      <form onSubmit={change} className="password">
        <DialogTitle id="password-title">{me.has_password || done ? "Change password" : "Set a password"}</DialogTitle>
        <DialogContent>
          {done ? (
            <p role="status">Changed. Whoever was signed in as you elsewhere is signed out.</p>
          ) : (
            <>
              {me.has_password && (
                <label>
                  Until now
                  <span className="field">
                    <input
                      className="text"
                      type="password"
                      autoComplete="current-password"
                      value={now}
                      onChange={(event) => setNow(event.target.value)}
                    />
                  </span>
                </label>
              )}
              <label>
                New, 8 characters or more
                <span className="field">
                  <input
                    className="text"
                    type="password"
                    autoComplete="new-password"
                    maxLength={200}
                    value={next}
                    onChange={(event) => setNext(event.target.value)}
                  />
                </span>
              </label>
              {error && (
                <p className="fail" role="alert">
                  {error}
                </p>
              )}
            </>
          )}
        </DialogContent>
        <DialogActions>
          <Button onClick={onClose}>{done ? "Close" : "Cancel"}</Button>
          {!done && (
            <Button type="submit" kind="primary" disabled={!next || (me.has_password && !now)}>
              {me.has_password ? "Change" : "Set"}
            </Button>
          )}
        </DialogActions>
      </form>
    </Dialog>
  );
}
