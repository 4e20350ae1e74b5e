import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Invited as Invitation, type Me } from "../api/client";
import { KEYS } from "../api/keys";
import { client } from "../api/queries";
import { Button } from "../ui/Button";
import { Mark } from "./icons";
import { SignIn } from "./SignIn";

/** The token of an invitation's link, where the page was opened by one. */
export const invitedBy = (path: string): string | null => /^\/invited\/([\w-]+)$/.exec(path)?.[1] ?? null;

/** What somebody is invited to, who may come in as the person signed in, or make an account. */
export function Invited({ token, me, open }: { token: string; me: Me | null; open: (project: number) => void }) {
  const [name, setName] = useState("");
  const [full, setFull] = useState("");
  const [password, setPassword] = useState("");
  const [error, setError] = useState("");
  const [known, setKnown] = useState(false);
  const { data, error: gone } = useQuery({
    queryKey: KEYS.invitation(token),
    queryFn: () => call<Invitation>("GET", `/invitations/${token}`),
    retry: false,
    staleTime: Infinity,
  });
  if (known && !me) return <SignIn keep />;
  const accept = async (event: React.FormEvent) => {
    event.preventDefault();
    try {
      const body = me ? {} : { new: { name: name.trim(), full_name: full.trim(), password } };
      const { project_id } = await call<{ project_id: number }>("POST", `/invitations/${token}/accept`, body);
      history.replaceState(null, "", "/");
      open(project_id);
      await client.resetQueries();
    } catch (failure) {
      setError((failure as Error).message);
    }
  };
  return (
    <main className="signin">
      <form onSubmit={accept}>
        <Mark />
        {gone && (
          <>
            <h1>This link leads nowhere</h1>
            <p role="alert">{gone.message}</p>
            <a className="lnk" href="/">
              To the desk
            </a>
          </>
        )}
        {data && (
          <>
            <h1>{data.project}</h1>
            <p>
              {data.invited_by} invites you as {data.role}.{" "}
              {me ? `You are signed in as ${me.name}.` : "Make an account to come in."}
            </p>
            {!me && (
              <>
                <label htmlFor="name">User name</label>
                <div className="field">
                  <input
                    id="name"
                    className="text"
                    autoComplete="username"
                    maxLength={60}
                    value={name}
                    onChange={(event) => setName(event.target.value)}
                  />
                </div>
                <label htmlFor="full">Your name</label>
                <div className="field">
                  <input
                    id="full"
                    className="text"
                    autoComplete="name"
                    maxLength={100}
                    value={full}
                    onChange={(event) => setFull(event.target.value)}
                  />
                </div>
                <label htmlFor="password">Password, 8 characters or more</label>
                <div className="field">
                  <input
                    id="password"
                    className="text"
                    type="password"
                    autoComplete="new-password"
                    maxLength={200}
                    value={password}
                    onChange={(event) => setPassword(event.target.value)}
                  />
                </div>
              </>
            )}
            {error && (
              <p className="err" role="alert">
                {error}
              </p>
            )}
            <Button kind="primary" type="submit" disabled={!me && (!name.trim() || !password)}>
              Come in
            </Button>
            {!me && (
              <Button kind="link" style={{ marginLeft: 16 }} onClick={() => setKnown(true)}>
                I have an account
              </Button>
            )}
          </>
        )}
      </form>
    </main>
  );
}
