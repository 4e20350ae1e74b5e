import { Popover } from "@mui/material";
import { useState } from "react";
import type { Quantity } from "../../api/client";
import { Caret } from "../icons";
import type { Look } from "../store";

import { GraticuleChoice } from "./GraticuleChoice";
import { KeptLooks } from "./KeptLooks";
import { LightSetting } from "./LightSetting";
import { Ramps } from "./Ramps";
import { ShownChoice } from "./ShownChoice";

export interface LookProps {
  look: Look;
  quantity: Quantity;
  unit: string;
}

/** The name of the ramp in the key; pressed, everything about the look. */
export function LookButton(props: LookProps) {
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  return (
    <>
      <button
        type="button"
        className="rampname"
        aria-label={`Look: ${props.look.ramp}`}
        onClick={(event) => setAnchor(event.currentTarget)}
      >
        {props.look.ramp} <Caret />
      </button>
      <Popover
        anchorEl={anchor}
        open={Boolean(anchor)}
        onClose={() => setAnchor(null)}
        anchorOrigin={{ vertical: "bottom", horizontal: "right" }}
        transformOrigin={{ vertical: "top", horizontal: "right" }}
      >
        <div className="look" role="dialog" aria-label="Look">
          <ShownChoice quantity={props.quantity} />
          <Ramps {...props} />
          {props.quantity === "height" && <LightSetting />}
          <GraticuleChoice />
          <KeptLooks {...props} />
        </div>
      </Popover>
    </>
  );
}
