import { useState } from "react";
import { call } from "../api/client";
import { client } from "../api/queries";
import { Button } from "../ui/Button";
import { Mark } from "./icons";

/** Name and password; the one-time link of `./run` needs neither. keep: the address stays as it is. */
export function SignIn({ keep = false }: { keep?: boolean }) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [error, setError] = useState("");
  const spent = new URLSearchParams(location.search).get("link") === "spent";
  const submit = async (event: React.FormEvent) => {
    event.preventDefault();
    try {
      await call("POST", "/accounts/sign-in", { name, password });
      if (!keep) history.replaceState(null, "", "/");
      await client.resetQueries();
    } catch (failure) {
      setError((failure as Error).message);
    }
  };
  return (
    <main className="signin">
      <form onSubmit={submit}>
        <Mark />
        <h1>Sign in to Yama</h1>
        <p>
          {spent
            ? "This sign-in link was used already or is too old. Restart ./run for a new one, or sign in here."
            : "The link that ./run prints signs you in without a password."}
        </p>
        <label htmlFor="name">Name</label>
        <div className="field">
          <input
            id="name"
            className="text"
            autoComplete="username"
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </div>
        <label htmlFor="password">Password</label>
        <div className="field">
          <input
            id="password"
            className="text"
            type="password"
            autoComplete="current-password"
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
        </div>
        {error && (
          <p className="err" role="alert">
            {error}
          </p>
        )}
        <Button kind="primary" type="submit" disabled={!name || !password}>
          Sign in
        </Button>
      </form>
    </main>
  );
}
