import { Fragment } from "react";
import { choicesOf, propertyOf } from "../../api/operations";
import { Choice } from "../../ui/Choice";
import { Field } from "../Field";
import { OperationSheet } from "../OperationSheet";
import { RoleField } from "../RoleField";
import { useRole } from "../useRole";
import { useWorksheet } from "../useWorksheet";

/** Heights to another unit or another zero level. */
export function ChangeHeights() {
  const work = useWorksheet("change_heights");
  const { params, setParams } = work;
  const { chosen } = useRole(work, "surface");
  const declared = chosen?.surface?.unit ?? "m";
  const { to_unit: to, offset } = params;
  const geoid = work.ids("geoid").length > 0;
  const says = geoid
    ? "other zero level"
    : (params.from_unit ?? declared) !== to
      ? `in ${propertyOf("change_heights", "to_unit").titles?.[to]}`
      : `${offset > 0 ? "+" : ""}${offset} ${to}`;
  return (
    <OperationSheet
      work={work}
      name={chosen ? `${chosen.name}, ${says}` : ""}
      parts={[
        {
          title: "What goes in",
          of: [
            "in:surface",
            <Choice
              key="from"
              label={propertyOf("change_heights", "from_unit").title}
              value={params.from_unit ?? declared}
              options={choicesOf("change_heights", "to_unit").map((one) =>
                one.value === declared ? { ...one, title: `${one.title}, as declared` } : one,
              )}
              onChange={(unit) => setParams({ from_unit: unit === declared ? null : (unit as typeof to) })}
            />,
          ],
        },
        {
          title: "What they become",
          of: [
            "to_unit",
            <RoleField key="in:geoid" work={work} input="geoid" but={(one) => one === chosen} />,
            geoid && "geoid",
            <Fragment key="offset">
              <Field work={work} name="offset" unit={to} />
            </Fragment>,
            <Field
              key="datum"
              work={work}
              name="vertical_datum"
              placeholder={chosen?.surface?.vertical_datum || "not said"}
            />,
            "name",
          ],
        },
      ]}
    />
  );
}
