/** Why something was refused or failed. */
export const Refusal = ({ sentence }: { sentence: string | null | undefined }) =>
  sentence ? (
    <p className="said">
      <span className="err" role="alert">
        {sentence}
      </span>
    </p>
  ) : null;
