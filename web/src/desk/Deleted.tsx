import { Dialog, DialogActions, DialogContent, DialogTitle, Popover } from "@mui/material";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useCallback, useState } from "react";
import { call, type Gone, type Holding, type Uses } from "../api/client";
import { KEYS } from "../api/keys";
import { client } from "../api/queries";
import { Button } from "../ui/Button";
import { useProject } from "./context";
import styles from "./deleted.module.css";
import { num } from "./format";
import { editOf, useDesk } from "./store";
import { useUndoKey } from "./useUndoKey";

const JUST = 60_000;

function changed(project: number) {
  for (const key of [["holdings", project], ["deleted", project], ["projects"]])
    client.invalidateQueries({ queryKey: key });
}

/** Deleting a holding: at once where nothing depends on it, else what goes with it is named first. */
export function useDeleting(holding: Holding) {
  const project = useProject();
  const path = `/projects/${project.id}/holdings/${holding.id}`;
  const [uses, setUses] = useState<Uses | null>(null);
  const remove = useMutation({
    mutationFn: (sure: boolean) => call<Gone>("DELETE", `${path}${sure ? "?sure=true" : ""}`),
    onSuccess: () => setUses(null),
    onSettled: () => changed(project.id),
  });
  const look = useMutation({
    mutationFn: () => call<Uses>("GET", `${path}/uses`),
    onSuccess: (found) => (found.blocked.length || found.loses.length ? setUses(found) : remove.mutate(false)),
  });
  const blocked = Boolean(uses?.blocked.length);
  const dialog = uses && (
    <Dialog open onClose={() => setUses(null)} aria-labelledby="deleting">
      <DialogTitle id="deleting">
        {blocked ? `${holding.name} cannot be deleted now` : `Delete ${holding.name}?`}
      </DialogTitle>
      <DialogContent>
        <ul className="says">
          {(blocked ? uses.blocked : uses.loses).map((sentence) => (
            <li key={sentence}>{sentence}</li>
          ))}
        </ul>
        {!blocked && <p className="mut">For a week it can be had back as it is.</p>}
        {remove.error && (
          <p className="fail" role="alert">
            {remove.error.message}
          </p>
        )}
      </DialogContent>
      <DialogActions>
        <Button onClick={() => setUses(null)}>{blocked ? "Close" : "Keep it"}</Button>
        {!blocked && (
          <Button kind="danger" disabled={remove.isPending} onClick={() => remove.mutate(true)}>
            Delete
          </Button>
        )}
      </DialogActions>
    </Dialog>
  );
  const error = look.error ?? (uses ? null : remove.error);
  return { ask: () => look.mutate(), dialog, error: error?.message ?? "" };
}

/** What a holding was made of, and a button that deletes it. */
export function MadeAndDelete({ holding }: { holding: Holding }) {
  const project = useProject();
  const deleting = useDeleting(holding);
  return (
    <>
      {holding.recipe && (
        <span className="mut">
          {holding.recipe.title} of <b>{Object.values(holding.recipe.inputs).join(", ")}</b>
        </span>
      )}
      {project.role !== "viewer" && (
        <button type="button" className="lnk danger" onClick={deleting.ask}>
          Delete
        </button>
      )}
      {deleting.error && (
        <span className="fail" role="alert">
          {deleting.error}
        </span>
      )}
      {deleting.dialog}
    </>
  );
}

/** What was deleted within a week, to be had back: the last one by a press, all of them in a list. */
export function Deleted() {
  const project = useProject();
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  const { data: gone = [] } = useQuery({
    queryKey: KEYS.deleted(project.id),
    queryFn: () => call<Gone[]>("GET", `/projects/${project.id}/deleted`),
  });
  const restore = useMutation({
    mutationFn: (id: number) => call("POST", `/projects/${project.id}/deleted/${id}/restore`),
    onSettled: () => changed(project.id),
  });
  const [last] = gone;
  const just = last && Date.now() - Date.parse(last.deleted_at) < JUST ? last : null;
  const mayRestore = project.role !== "viewer";
  const editing = useDesk((desk) => editOf(desk) !== undefined); // the key undoes edits then
  const { mutate, isPending } = restore;
  const undone = just?.id;
  const undo = useCallback(
    (again: boolean) => {
      if (!again && undone !== undefined && !isPending) mutate(undone);
    },
    [mutate, undone, isPending],
  );
  useUndoKey(just && mayRestore && !editing ? undo : null);
  if (!gone.length) return null;
  return (
    <span className={styles.gone}>
      {just && mayRestore && (
        <span role="status">
          {just.name} is deleted.{" "}
          <Button kind="link" disabled={restore.isPending} onClick={() => restore.mutate(just.id)}>
            Undo
          </Button>
        </span>
      )}
      <Button kind="link" aria-haspopup="dialog" onClick={(event) => setAnchor(event.currentTarget)}>
        <span className="n">{num(gone.length)}</span> deleted
      </Button>
      <Popover
        open={Boolean(anchor)}
        anchorEl={anchor}
        onClose={() => setAnchor(null)}
        anchorOrigin={{ vertical: "top", horizontal: "right" }}
        transformOrigin={{ vertical: "bottom", horizontal: "right" }}
      >
        <section className={styles.gonelist} aria-label="Deleted">
          <p className="mut">Deleted things are kept for a week.</p>
          <ul>
            {gone.map((one) => (
              <li key={one.id}>
                <b>{one.name}</b>
                <span className="mut">
                  {one.kind}, until{" "}
                  {new Date(one.until).toLocaleDateString("en-GB", { weekday: "long", day: "numeric", month: "long" })}
                  {one.deleted_by && `, by ${one.deleted_by}`}
                </span>
                {mayRestore && (
                  <Button
                    kind="link"
                    aria-label={`Restore ${one.name}`}
                    disabled={restore.isPending}
                    onClick={() => restore.mutate(one.id)}
                  >
                    Restore
                  </Button>
                )}
              </li>
            ))}
          </ul>
          {restore.error && (
            <p className="fail" role="alert">
              {restore.error.message}
            </p>
          )}
        </section>
      </Popover>
    </span>
  );
}
