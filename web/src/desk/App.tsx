import { useEffect, useState } from "react";
import { ApiError, call, type Project } from "../api/client";
import { useMe, useProjects } from "../api/queries";
import { ProjectProvider } from "./context";
import { Desk } from "./Desk";
import { Invited, invitedBy } from "./Invited";
import { SignIn } from "./SignIn";
import { type Remembered, remembered, restored, useDesk } from "./store";

const OPEN = "yama.project";

/** Signs in where needed, opens a project, and brings back what the desk remembers of it. */
export function App() {
  const me = useMe();
  const projects = useProjects();
  const [wanted, setWanted] = useState(() => Number(localStorage.getItem(OPEN)) || null);
  const open = (id: number) => {
    localStorage.setItem(OPEN, String(id));
    setWanted(id);
  };
  const [invited, setInvited] = useState(() => invitedBy(location.pathname));
  const stranger = me.error instanceof ApiError && me.error.status === 401;
  if (invited && (me.data || stranger))
    return (
      <Invited
        token={invited}
        me={me.data ?? null}
        open={(id) => {
          setInvited(null);
          open(id);
        }}
      />
    );
  if (stranger) return <SignIn />;
  if (me.error || projects.error) {
    const sentence = (me.error ?? projects.error)?.message;
    return (
      <div className="signin">
        <p role="alert">{sentence}</p>
      </div>
    );
  }
  if (!me.data || !projects.data) return null;
  const project = projects.data.find((one) => one.id === wanted) ?? projects.data[0] ?? null;
  if (!project) return <Desk project={null} me={me.data} projects={[]} open={open} />;
  return (
    <ProjectProvider value={project}>
      <Opened key={project.id} project={project}>
        <Desk project={project} me={me.data} projects={projects.data} open={open} />
      </Opened>
    </ProjectProvider>
  );
}

/** Restores the desk of a project before it is shown, and keeps it from then on. */
function Opened({ project, children }: { project: Project; children: React.ReactNode }) {
  const loaded = useDesk((desk) => desk.loaded);
  const set = useDesk((desk) => desk.set);
  const [refused, setRefused] = useState("");
  useEffect(() => {
    let timer = 0;
    let last = "";
    let stop: (() => void) | undefined;
    let gone = false;
    const path = `/projects/${project.id}/desk`;
    const open = (kept: Partial<Remembered>) => {
      if (gone) return;
      const whole = restored(kept);
      last = JSON.stringify(whole);
      set({
        ...whole,
        loaded: true,
        preview: null,
        inPlace: null,
        overlays: [],
        tools: [],
        pointer: null,
        hovered: null,
      });
      stop = useDesk.subscribe((desk) => {
        window.clearTimeout(timer);
        timer = window.setTimeout(() => {
          const text = JSON.stringify(remembered(desk));
          if (text === last) return;
          last = text;
          call("PUT", path, remembered(desk)).catch(() => {
            last = ""; // the next change tries again
          });
        }, 700);
      });
    };
    call<Partial<Remembered>>("GET", path).then(open, (error: Error) => gone || setRefused(error.message));
    return () => {
      gone = true;
      window.clearTimeout(timer);
      stop?.();
      set({ loaded: false });
    };
  }, [project.id, set]);
  if (refused)
    return (
      <div className="signin">
        <p role="alert">{refused}</p>
      </div>
    );
  return loaded ? children : null;
}
