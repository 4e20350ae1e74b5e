import { ButtonBase, type ButtonBaseProps } from "@mui/material";

interface Props extends ButtonBaseProps {
  kind?: "plain" | "small" | "primary" | "danger" | "link" | "bare";
}

const CLASSES = { plain: "btn", small: "btn small", primary: "primary", danger: "btn danger", link: "lnk", bare: "" };

/** A button: outlined, filled for what a part of the desk is for, a link within text, or bare, for what
 * its place dresses. */
export function Button({ kind = "plain", className = "", ...props }: Props) {
  return <ButtonBase className={`${CLASSES[kind]} ${className}`.trim()} {...props} />;
}
