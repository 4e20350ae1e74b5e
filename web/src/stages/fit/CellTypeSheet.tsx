import { Fragment } from "react";
import { Field } from "../Field";
import { OperationSheet } from "../OperationSheet";
import { useRole } from "../useRole";
import { useWorksheet } from "../useWorksheet";

const USUAL_EMPTY: Record<string, string> = {
  float32: "NaN",
  int32: "−2147483648",
  int16: "−32768",
  uint16: "65535",
};

/** What the cells of a surface are written as when it is stored. */
export function CellTypeSheet() {
  const work = useWorksheet("cell_type");
  const { cell_type: type, step } = work.params;
  const { chosen } = useRole(work, "surface");
  const unit = chosen?.surface?.unit ?? "m";
  const says = type === "float32" ? "decimals" : `${type} of ${step} ${unit}`;
  return (
    <OperationSheet
      work={work}
      name={chosen ? `${chosen.name}, ${says}` : ""}
      parts={[
        { title: "What goes in", of: ["in:surface"] },
        {
          title: "What its cells become",
          of: [
            <Field key="type" work={work} name="cell_type" also={() => ({ nodata: null })} />,
            <Fragment key="numbers">
              <Field work={work} name="step" unit={unit} />
              <Field work={work} name="nodata" placeholder={USUAL_EMPTY[type]} />
            </Fragment>,
            "name",
          ],
        },
      ]}
    />
  );
}
