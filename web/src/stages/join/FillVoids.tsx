import { Fragment } from "react";
import type { Holding } from "../../api/client";
import { num } from "../../desk/format";
import { MethodIcon } from "../../desk/icons";
import { Methods } from "../build/Methods";
import { Field } from "../Field";
import { HolesList } from "../gather/HolesList";
import { OperationSheet } from "../OperationSheet";
import { RoleField } from "../RoleField";
import { useRole } from "../useRole";
import { useWorksheet } from "../useWorksheet";

const DRAWN: Record<string, string> = {
  facets: "triangulation",
  plate: "spline",
  distance: "inverse_distance",
  other: "kriging",
};

const hasHoles = (one: Holding) => Boolean(one.holes?.count);

/** What is known of the holes of a surface. */
function Holes({ of }: { of: Holding }) {
  if (!of.holes) return <p className="hint">Holes are counted when a surface is stored.</p>;
  return (
    <>
      {of.holes.count ? (
        <HolesList key={of.id} holding={of} />
      ) : (
        <p className="hint">No hole is surrounded by data in {of.name}.</p>
      )}
      {of.holes.outside > 0 && (
        <p className="hint">
          <span className="n">{num(of.holes.outside)}</span> empty cells reach the edge; they stay empty.
        </p>
      )}
    </>
  );
}

/** Holes of a surface get heights: from their rim, or from another surface. */
export function FillVoids() {
  const work = useWorksheet("fill_voids");
  const { method, across_in: counted } = work.params;
  const { chosen } = useRole(work, "surface", hasHoles);
  return (
    <OperationSheet
      work={work}
      name={chosen ? `${chosen.name}, filled` : ""}
      parts={[
        {
          title: "What goes in",
          of: [
            <RoleField key="surface" work={work} input="surface" likely={hasHoles} />,
            chosen && <Holes key="holes" of={chosen} />,
          ],
        },
        {
          title: "From what",
          of: [
            <Methods
              key="method"
              work={work}
              name="method"
              across={2}
              icon={(one) => <MethodIcon method={DRAWN[one] ?? ""} />}
            />,
            method === "other" && (
              <RoleField key="other" work={work} input="other" but={(one) => one === chosen} none="choose" />
            ),
            <Fragment key="across">
              <Field work={work} name="across" unit={counted} />
            </Fragment>,
            "across_in",
          ],
        },
        { title: "Result", of: ["output", "name"] },
      ]}
    />
  );
}
