import { useQuery } from "@tanstack/react-query";
import { type ColumnValue, call } from "../api/client";
import { KEYS } from "../api/keys";
import { useHeld, useProject } from "../desk/context";
import { HoldingChoice } from "../stages/HoldingChoice";
import { has } from "../stages/useRole";
import { Check, Checks } from "../ui/Check";
import { Choice } from "../ui/Choice";
import { NumberField } from "../ui/NumberField";
import { TextField } from "../ui/TextField";
import type { Settings } from "./demands";

const FIGURES = [
  { value: "le95", title: "95 % of errors (LE95)" },
  { value: "le90", title: "90 % of errors (LE90)" },
  { value: "rmse", title: "RMSE" },
  { value: "nmad", title: "NMAD" },
  { value: "mean", title: "mean error" },
];
const FORMATS = [
  { value: "tif", title: "GeoTIFF" },
  { value: "asc", title: "ASCII grid" },
  { value: "xyz", title: "list of points" },
];
const POSITIVE = { words: "More than 0", holds: (value: number) => value > 0 };

interface Props {
  demand: Settings;
  onChange: (change: Record<string, unknown>) => void;
}

/** Which features a demand speaks of: all of a file, or those with a value in a column. */
function OfFeatures({ demand, onChange, of }: Props & { of: "polygons" | "lines" }) {
  const project = useProject();
  const { features } = useHeld();
  const fitting = features.filter((one) => has(one, of));
  const number = demand.features as number | undefined;
  const column = (demand.column as string) ?? "";
  const columns = Object.keys(fitting.find((one) => one.id === number)?.features.attributes ?? {});
  const { data: values = [] } = useQuery({
    queryKey: KEYS.columnValues(project.id, number, column),
    queryFn: () =>
      call<ColumnValue[]>(
        "GET",
        `/projects/${project.id}/holdings/${number}/values?column=${encodeURIComponent(column)}`,
      ),
    enabled: number !== undefined && column !== "",
  });
  return (
    <>
      <HoldingChoice
        label={of === "lines" ? "Lines" : "Polygons"}
        holdings={fitting}
        value={number}
        onChange={(id) => onChange({ features: id, column: "", value: "" })}
      />
      {columns.length > 0 && (
        <Choice
          label="Of these"
          value={column || "all"}
          options={[
            { value: "all", title: "all of them" },
            ...columns.map((one) => ({ value: one, title: `by ${one}` })),
          ]}
          onChange={(one) => onChange({ column: one === "all" ? "" : one, value: "" })}
        />
      )}
      {column && (
        <Choice
          label={column}
          value={(demand.value as string) ?? ""}
          options={values.map((one) => ({ value: one.value, title: `${one.value} (${one.count})` }))}
          onChange={(value) => onChange({ value })}
        />
      )}
      <TextField
        label="Called"
        value={(demand.label as string) ?? ""}
        maxLength={64}
        placeholder="as its file"
        onChange={(label) => onChange({ label })}
      />
    </>
  );
}

/** The settings of a demand. */
export function DemandForm({ demand, onChange }: Props) {
  const project = useProject();
  const { points } = useHeld();
  const covers = Object.keys(points.find((one) => one.id === project.checkpoints_id)?.points.codes ?? {});
  const chosen = (demand.covers as string[] | undefined) ?? [];
  const within = (title: string, optional = false) => (
    <NumberField
      label={title}
      unit="m"
      value={demand.within as number | null | undefined}
      placeholder={optional ? "not asked" : ""}
      bounds={POSITIVE}
      onChange={(value) => onChange({ within: value })}
    />
  );
  switch (demand.kind) {
    case "error":
      return (
        <>
          <Choice
            label="Figure"
            value={demand.figure as string}
            options={FIGURES}
            onChange={(figure) => onChange({ figure })}
          />
          {within("At most")}
          {covers.length > 0 && (
            <Checks label="Only where this covers the ground">
              {covers.map((one) => (
                <Check
                  key={one}
                  label={one}
                  checked={chosen.includes(one)}
                  onChange={(on) => onChange({ covers: on ? [...chosen, one] : chosen.filter((each) => each !== one) })}
                />
              ))}
            </Checks>
          )}
          {chosen.length > 0 && (
            <TextField
              label="Called"
              value={(demand.called as string) ?? ""}
              maxLength={64}
              placeholder="such as open ground"
              onChange={(called) => onChange({ called })}
            />
          )}
        </>
      );
    case "holes":
      return <OfFeatures demand={demand} onChange={onChange} of="polygons" />;
    case "area":
      return (
        <>
          <OfFeatures demand={demand} onChange={onChange} of="polygons" />
          <NumberField
            label="At least"
            unit="%"
            value={demand.share as number}
            bounds={{ words: "More than 0, at most 100", holds: (value) => value > 0 && value <= 100 }}
            onChange={(share) => onChange({ share })}
          />
        </>
      );
    case "level":
      return (
        <>
          <OfFeatures demand={demand} onChange={onChange} of="polygons" />
          {within("95 % within")}
        </>
      );
    case "falling":
      return (
        <>
          <OfFeatures demand={demand} onChange={onChange} of="lines" />
          {within("Rises at most")}
        </>
      );
    case "datum":
      return (
        <>
          <TextField
            label="Above"
            value={(demand.datum as string) ?? ""}
            maxLength={120}
            placeholder="such as mean sea level"
            onChange={(datum) => onChange({ datum })}
          />
          {within("Median within", true)}
        </>
      );
    case "cells":
      return (
        <NumberField
          label="At most"
          unit="m"
          value={demand.size as number | null | undefined}
          bounds={POSITIVE}
          onChange={(size) => onChange({ size })}
        />
      );
    case "format":
      return (
        <Choice
          label="Format"
          value={demand.format as string}
          options={FORMATS}
          onChange={(format) => onChange({ format })}
        />
      );
  }
}
