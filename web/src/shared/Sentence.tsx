// A sentence whose quoted names keep to themselves: those that run from right to left must not turn what is around them.
import { Fragment } from "react";

export const Sentence = ({ text }: { text: string }) => (
  <>
    {text.split(/“([^”]*)”/).map((piece, i) =>
      i % 2 ? (
        // biome-ignore lint/suspicious/noArrayIndexKey: pieces of one text have no other names
        <Fragment key={i}>
          “<bdi>{piece}</bdi>”
        </Fragment>
      ) : (
        piece
      ),
    )}
  </>
);
