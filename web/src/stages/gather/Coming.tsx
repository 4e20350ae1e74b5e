import { useMutation } from "@tanstack/react-query";
import { call, type Order } from "../../api/client";
import { KEYS } from "../../api/keys";
import { client } from "../../api/queries";
import { useProject } from "../../desk/context";
import { num } from "../../desk/format";
import { Button } from "../../ui/Button";
import styles from "./coming.module.css";
import { OPEN, WORDS } from "./orders";

/** Orders that are on their way, part by part, and what failed of them. */
export function Coming({ orders, mayOrder }: { orders: Order[]; mayOrder: boolean }) {
  const project = useProject();
  const cancel = useMutation({
    mutationFn: (id: number) => call<Order>("POST", `/projects/${project.id}/orders/${id}/cancel`),
    onSettled: () => client.invalidateQueries({ queryKey: KEYS.orders(project.id) }),
  });
  const open = orders.filter((one) => one.parts.some((part) => OPEN.includes(part.standing)));
  const parts = orders.flatMap((order) => order.parts);
  return (
    <>
      {open.map((one) => (
        <section className="sec" key={one.id} aria-label={`Order of ${one.title}`}>
          <h2>
            Coming: {one.title}
            <small>
              {mayOrder && (
                <Button kind="link" onClick={() => cancel.mutate(one.id)}>
                  Cancel
                </Button>
              )}
            </small>
          </h2>
          <ul className={styles.partlist}>
            {one.parts
              .filter((part) => OPEN.includes(part.standing))
              .map((part) => (
                <li key={part.id}>
                  <span className="n">{part.name}</span>
                  <span className={part.note ? "again" : "mut"}>
                    {part.note || (WORDS[part.standing] ?? part.standing)}
                    {part.try_in != null && part.try_in > 1 && (
                      <>
                        {" "}
                        Again in <span className="n">{num(part.try_in)} s</span>.
                      </>
                    )}
                  </span>
                  {part.size > 0 && (
                    <div
                      className="bar"
                      role="progressbar"
                      aria-label={part.name}
                      aria-valuenow={Math.round((100 * part.received) / part.size)}
                    >
                      <i style={{ width: `${Math.min((100 * part.received) / part.size, 100)}%` }} />
                    </div>
                  )}
                </li>
              ))}
          </ul>
        </section>
      ))}
      {parts
        .filter((part) => part.standing === "failed")
        .slice(0, 3)
        .map((part) => (
          <section className="sec" key={part.id}>
            <p className="fail" role="alert">
              {part.note}
            </p>
          </section>
        ))}
    </>
  );
}
