import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Member } from "../../api/client";
import { client } from "../../api/queries";
import { useProject } from "../../desk/context";
import { Choice, Section, Sheet } from "../parts";

const ROLES = [
  { value: "viewer", title: "viewer: looks" },
  { value: "editor", title: "editor: makes surfaces" },
  { value: "owner", title: "owner: decides on members too" },
];

/** Who works in the project. */
export function Members() {
  const project = useProject();
  const path = `/projects/${project.id}/members`;
  const { data = [] } = useQuery({ queryKey: ["members", project.id], queryFn: () => call<Member[]>("GET", path) });
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
    client.invalidateQueries({ queryKey: ["members", project.id] });
  };
  return (
    <Sheet stage="Gather" title="Members" lead={`Who works in ${project.name}. Nobody else can see that it exists.`}>
      <Section title="Here now">
        {data.map((member) => (
          <div className="row" key={member.name}>
            <span style={{ flex: 1 }}>{member.name}</span>
            <span className="mut" style={{ fontSize: 12 }}>
              {member.role}
            </span>
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
          <div className="row">
            <label htmlFor="member">User name</label>
            <span className="field">
              <input id="member" className="text" value={name} onChange={(e) => setName(e.target.value)} />
            </span>
          </div>
          <Choice label="Role" value={role} options={ROLES} onChange={setRole} />
          <div className="row">
            <button
              type="button"
              className="btn"
              disabled={!name.trim()}
              onClick={() => act("PUT", path, { name: name.trim(), role })}
            >
              Give this role
            </button>
          </div>
        </Section>
      )}
      {error && (
        <p className="remark" role="alert" style={{ color: "var(--oxblood)" }}>
          {error}
        </p>
      )}
    </Sheet>
  );
}
