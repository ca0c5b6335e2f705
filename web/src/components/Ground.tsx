/** What lies behind a picture: chosen once for all of them. */
import { GROUNDS, setLook, useGround } from "../app/look";
import { Choice } from "./controls";

export function Ground() {
  return (
    <Choice
      label="Background"
      value={useGround()}
      onChange={(next) => setLook({ ground: next })}
      options={GROUNDS.map((id) => [id, id] as const)}
    />
  );
}
