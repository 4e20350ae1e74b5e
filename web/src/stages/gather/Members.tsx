import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Member, type NewInvitation, type OpenInvitation } from "../../api/client";
import { KEYS } from "../../api/keys";
import { client } from "../../api/queries";
import { useProject } from "../../desk/context";
import { Button } from "../../ui/Button";
import { Choice } from "../../ui/Choice";
import { Entry } from "../../ui/Entry";
import { Section, Sheet } from "../../ui/Sheet";
import { TextField } from "../../ui/TextField";

const ROLES = [
  { value: "viewer", title: "viewer: looks" },
  { value: "editor", title: "editor: makes surfaces" },
  { value: "owner", title: "owner: decides on members too" },
];

/** Links that let somebody in who has no account yet, or has. */
function Invitations() {
  const project = useProject();
  const path = `/projects/${project.id}/invitations`;
  const queryKey = ["invitations", project.id];
  const { data = [] } = useQuery({ queryKey, queryFn: () => call<OpenInvitation[]>("GET", path) });
  const [role, setRole] = useState("editor");
  const queries = useQueryClient();
  const settled = { onSettled: () => queries.invalidateQueries({ queryKey }) };
  const invite = useMutation({ mutationFn: () => call<NewInvitation>("POST", path, { role }), ...settled });
  const takeBack = useMutation({ mutationFn: (id: number) => call("DELETE", `${path}/${id}`), ...settled });
  const made = data.some(({ id }) => id === invite.data?.id) ? invite.data : undefined;
  const link = made && `${location.origin}${made.path}`;
  const error = invite.error ?? takeBack.error;
  return (
    <Section title="Invite somebody by a link">
      <p className="mut">
        It lets one person in within a week; somebody without an account makes one there. Send it by any means.
      </p>
      <Choice label="Comes in as" value={role} options={ROLES} onChange={setRole} />
      <div className="row">
        <Button disabled={invite.isPending} onClick={() => invite.mutate()}>
          Make a link
        </Button>
      </div>
      {link && (
        <div className="row">
          <Entry readOnly whole label="The link" value={link} />
          <CopyButton text={link} />
        </div>
      )}
      {link && <p className="mut">It is shown this once.</p>}
      {data.map((one) => (
        <div className="row" key={one.id}>
          <span style={{ flex: 1 }}>
            {one.role}, until{" "}
            {new Date(one.expires_at).toLocaleDateString("en-GB", { weekday: "long", day: "numeric", month: "long" })}
          </span>
          <button
            type="button"
            className="lnk danger"
            aria-label={`Take back the invitation as ${one.role}`}
            onClick={() => takeBack.mutate(one.id)}
          >
            Take back
          </button>
        </div>
      ))}
      {error && (
        <p className="fail" role="alert">
          {error.message}
        </p>
      )}
    </Section>
  );
}

function CopyButton({ text }: { text: string }) {
  const [copied, setCopied] = useState("");
  return (
    <Button
      onClick={() =>
        navigator.clipboard.writeText(text).then(
          () => setCopied(text),
          () => setCopied(""),
        )
      }
    >
      {copied === text ? "Copied" : "Copy"}
    </Button>
  );
}

/** Who works in the project. */
export function Members() {
  const project = useProject();
  const path = `/projects/${project.id}/members`;
  const { data = [] } = useQuery({ queryKey: KEYS.members(project.id), queryFn: () => call<Member[]>("GET", path) });
  const [name, setName] = useState("");
  const [role, setRole] = useState("viewer");
  const [error, setError] = useState("");
  const owner = project.role === "owner";
  const act = async (method: string, where: string, body?: unknown) => {
    try {
      await call(method, where, body);
      setError("");
      setName("");
    } catch (failure) {
      setError((failure as Error).message);
    }
    client.invalidateQueries({ queryKey: KEYS.members(project.id) });
  };
  return (
    <Sheet stage="Gather" title="Members" lead={`Who works in ${project.name}. Nobody else can see that it exists.`}>
      <Section title="Here now">
        {data.map((member) => (
          <div className="row" key={member.name}>
            <span style={{ flex: 1 }}>{member.name}</span>
            <span className="mut small-print">{member.role}</span>
            {owner && (
              <button
                type="button"
                className="lnk danger"
                aria-label={`Remove ${member.name}`}
                onClick={() => act("DELETE", `${path}/${encodeURIComponent(member.name)}`)}
              >
                Remove
              </button>
            )}
          </div>
        ))}
      </Section>
      {owner && (
        <Section title="Add somebody, or change a role">
          <TextField label="User name" value={name} onChange={setName} />
          <Choice label="Role" value={role} options={ROLES} onChange={setRole} />
          <div className="row">
            <Button disabled={!name.trim()} onClick={() => act("PUT", path, { name: name.trim(), role })}>
              Give this role
            </Button>
          </div>
        </Section>
      )}
      {owner && <Invitations />}
      {error && (
        <p className="remark" role="alert" style={{ color: "var(--oxblood)" }}>
          {error}
        </p>
      )}
    </Sheet>
  );
}
