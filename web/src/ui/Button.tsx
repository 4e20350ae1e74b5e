import { ButtonBase, type ButtonBaseProps } from "@mui/material";

interface Props extends ButtonBaseProps {
  kind?: "plain" | "small" | "primary" | "danger" | "link";
}

const CLASSES = { plain: "btn", small: "btn small", primary: "primary", danger: "btn danger", link: "lnk" };

/** A button: outlined, filled for what a part of the desk is for, or a link within text. */
export function Button({ kind = "plain", className = "", ...props }: Props) {
  return <ButtonBase className={`${CLASSES[kind]} ${className}`.trim()} {...props} />;
}
