import { Menu, MenuItem, Popover } from "@mui/material";
import { useState } from "react";
import { call, type Me, type Project } from "../api/client";
import { client } from "../api/queries";
import { Button } from "../ui/Button";
import { HEIGHT_UNITS, num, size } from "./format";
import { Caret, Mark } from "./icons";
import { JobsButton } from "./JobsButton";
import { PasswordDialog } from "./PasswordDialog";
import { useDesk } from "./store";

interface Props {
  project: Project | null;
  me: Me;
  projects: Project[];
  open: (id: number) => void;
}

/** Project, frame, jobs, and who is signed in. */
export function TopBar({ project, me, projects, open }: Props) {
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  const [mine, setMine] = useState<HTMLElement | null>(null);
  const [changing, setChanging] = useState(false);
  const openSheet = useDesk((desk) => desk.open);
  const signOut = async () => {
    await call("POST", "/accounts/sign-out");
    client.clear();
    location.assign("/");
  };
  return (
    <header className="top">
      <div className="mark">
        <Mark />
      </div>
      {project && (
        <button
          type="button"
          className="proj"
          aria-label={`Project: ${project.name}`}
          onClick={(e) => setAnchor(e.currentTarget)}
        >
          {project.name} <Caret />
        </button>
      )}
      <Menu anchorEl={anchor} open={Boolean(anchor)} onClose={() => setAnchor(null)}>
        {projects.map((one) => (
          <MenuItem
            key={one.id}
            selected={one.id === project?.id}
            onClick={() => {
              setAnchor(null);
              open(one.id);
            }}
          >
            {one.name}&nbsp;<span className="mut">{one.role}</span>
          </MenuItem>
        ))}
        <MenuItem
          divider
          sx={{ borderTop: "1px solid #DAD6CA" }}
          onClick={() => {
            setAnchor(null);
            openSheet("Gather", "members");
          }}
        >
          Members of this project
        </MenuItem>
        <MenuItem
          onClick={() => {
            setAnchor(null);
            openSheet("Gather", "new_project");
          }}
        >
          New project
        </MenuItem>
      </Menu>
      {project && (
        <div className="frame" role="group" aria-label="Frame">
          <span>frame</span>
          <span title={project.frame.crs_title}>{project.frame.grid.crs.slice(0, 24)}</span>
          <span>
            <span className="n">{size(project.frame.cell_size)}</span> m
          </span>
          <span className="n">
            {num(project.frame.grid.cols)} × {num(project.frame.grid.rows)}
          </span>
          <span title={project.frame.vertical_datum || "zero level not named"}>
            heights in {HEIGHT_UNITS.find(({ value }) => value === project.frame.unit)?.title}
          </span>
        </div>
      )}
      <div className="right">
        {project && <JobsButton />}
        <button
          type="button"
          className="me"
          aria-label={`${me.initials}, signed in as ${me.name}`}
          onClick={(e) => setMine(e.currentTarget)}
        >
          {me.initials}
        </button>
        <Popover
          open={Boolean(mine)}
          anchorEl={mine}
          onClose={() => setMine(null)}
          anchorOrigin={{ vertical: "bottom", horizontal: "right" }}
          transformOrigin={{ vertical: "top", horizontal: "right" }}
        >
          <div style={{ padding: "10px 14px", fontSize: 12.5 }}>
            <div style={{ marginBottom: 8 }}>Signed in as {me.name}</div>
            <span style={{ display: "flex", gap: 8 }}>
              <Button
                onClick={() => {
                  setMine(null);
                  setChanging(true);
                }}
              >
                {me.has_password ? "Change password" : "Set a password"}
              </Button>
              <Button onClick={signOut}>Sign out</Button>
            </span>
          </div>
        </Popover>
        {changing && <PasswordDialog me={me} onClose={() => setChanging(false)} />}
      </div>
    </header>
  );
}
