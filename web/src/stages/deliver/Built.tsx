import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { call } from "../../api/client";
import { KEYS } from "../../api/keys";
import { client } from "../../api/queries";
import { useProject } from "../../desk/context";
import { num } from "../../desk/format";
import { Button } from "../../ui/Button";
import { Section } from "../../ui/Sheet";

import { megabytes } from "./contents";

interface Package {
  id: string;
  name: string;
  file: string;
  bytes: number;
  count: number;
  report: boolean;
  made: string;
}

/** The packages that are here. `done`: the one built last, so that the list is read again. */
export function Built({ done }: { done: string }) {
  const project = useProject();
  const { data: built = [] } = useQuery({
    queryKey: KEYS.packages(project.id, done),
    queryFn: () => call<Package[]>("GET", `/projects/${project.id}/packages`),
    placeholderData: keepPreviousData,
  });
  const remove = useMutation({
    mutationFn: (id: string) => call("DELETE", `/projects/${project.id}/packages/${id}`),
    onSettled: () => client.invalidateQueries({ queryKey: KEYS.packages(project.id) }),
  });
  if (!built.length) return null;
  return (
    <Section title="Packages here" aside={String(built.length)}>
      {remove.error && <p className="err">{remove.error.message}</p>}
      <ul className="built" aria-label="Packages">
        {built.map((one) => {
          const at = `/api/projects/${project.id}/packages/${one.id}`;
          return (
            <li key={one.id}>
              <span>{one.name}</span>
              <small>
                <span className="n">{num(one.count)}</span> files, <span className="n">{megabytes(one.bytes)}</span>,{" "}
                {new Date(one.made).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" })}
              </small>
              <span className="acts">
                <a className="lnk" href={`${at}/file`}>
                  Download
                </a>
                {one.report && (
                  <a className="lnk" href={`${at}/report`} target="_blank" rel="noreferrer">
                    Report
                  </a>
                )}
                {project.role !== "viewer" && (
                  <Button kind="link" onClick={() => remove.mutate(one.id)}>
                    Delete
                  </Button>
                )}
              </span>
            </li>
          );
        })}
      </ul>
    </Section>
  );
}
