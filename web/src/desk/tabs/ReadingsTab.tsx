import { useState } from "react";
import type { Quantity } from "../../api/client";
import { Button } from "../../ui/Button";
import { unitOf, useProject } from "../context";
import { num } from "../format";
import { type Pinned, useDesk } from "../store";
import { Explained } from "./Explained";

/** Readings pinned by a click, as a table that can be copied. */
export function ReadingsTab() {
  const project = useProject();
  const pinned = useDesk((desk) => desk.pinned);
  const set = useDesk((desk) => desk.set);
  const [said, setSaid] = useState("");
  const [asked, setAsked] = useState<{ id: number; x: number; y: number } | null>(null);
  if (!pinned.length) return <p className="empties">Click the map to keep a reading here.</p>;
  if (asked) return <Explained {...asked} onBack={() => setAsked(null)} />;
  const explain = (one: Pinned, slot: "a" | "b", number: number) => {
    const id = one.ids?.[slot];
    return id !== undefined && project.role !== "viewer" ? (
      <>
        {" "}
        <Button
          kind="link"
          aria-label={`Where does reading ${number} of ${slot.toUpperCase()} come from?`}
          onClick={() => setAsked({ id, x: one.x, y: one.y })}
        >
          why?
        </Button>
      </>
    ) : null;
  };
  const rows = pinned.map((one, i) => {
    const a = one.readings.a?.height;
    const b = one.readings.b?.height;
    const alike = one.quantities?.a === one.quantities?.b;
    return { number: i + 1, one, a, b, minus: alike && a != null && b != null ? a - b : null };
  });
  const unit = (quantity: Quantity | undefined) => (quantity ? unitOf(quantity, project.frame.unit) : "");
  const copy = async () => {
    const head = ["no", "east", "north", "A", "A surface", "B", "B surface", "A-B", "slope deg", "aspect deg"];
    const lines = rows.map(({ number, one, a, b, minus }) =>
      [number, one.x, one.y, a, one.names.a, b, one.names.b, minus, one.readings.a?.slope, one.readings.a?.aspect]
        .map((value) => (typeof value === "number" ? String(Number(value.toFixed(3))) : (value ?? "")))
        .join("\t"),
    );
    try {
      await navigator.clipboard.writeText([head.join("\t"), ...lines].join("\n"));
      setSaid(`${rows.length} readings copied.`);
    } catch {
      setSaid("The browser did not allow copying; select the table instead.");
    }
  };
  return (
    <div className="tabpad">
      <div style={{ display: "flex", gap: 14, marginBottom: 4, fontSize: 12 }}>
        <Button kind="link" onClick={copy}>
          Copy as table
        </Button>
        <button type="button" className="lnk danger" onClick={() => set({ pinned: [] })}>
          Remove all
        </button>
        <span className="mut" role="status">
          {said}
        </span>
      </div>
      <table className="t">
        <thead>
          <tr>
            <th>no.</th>
            <th>east</th>
            <th>north</th>
            <th>A</th>
            <th>B</th>
            <th>A − B</th>
            <th>slope A</th>
            <th>surfaces</th>
          </tr>
        </thead>
        <tbody>
          {rows.map(({ number, one, a, b, minus }) => (
            <tr key={number}>
              <td className="n">{number}</td>
              <td className="n">{num(one.x, 1)}</td>
              <td className="n">{num(one.y, 1)}</td>
              <td>
                <span className="n">{num(a, 2)}</span> {unit(one.quantities?.a)}
                {explain(one, "a", number)}
              </td>
              <td>
                <span className="n">{num(b, 2)}</span> {unit(one.quantities?.b)}
                {explain(one, "b", number)}
              </td>
              <td>
                <span className="n">{num(minus, 2)}</span> {minus === null ? "" : unit(one.quantities?.a)}
              </td>
              <td className="n">{one.quantities?.a === "height" ? `${num(one.readings.a?.slope, 1)}°` : "–"}</td>
              <td>{[one.names.a, one.names.b].filter(Boolean).join(" and ")}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
