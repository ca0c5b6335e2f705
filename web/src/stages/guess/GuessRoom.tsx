/** Bytes without a header: each kind that can explain them has its own room. */
import { Suspense } from "react";
import { useSearchParams } from "react-router";
import { useKinds } from "../../assets/kinds";
import { faceOf } from "../../assets/registry";
import { Choice, Empty } from "../../components/controls";

export function GuessRoom({ project }: { project: string }) {
  const [params, setParams] = useSearchParams();
  const address = params.get("item") ?? "";
  const kinds = (useKinds().data?.kinds ?? []).filter((kind) => kind.headless && faceOf(kind.id).Guess);
  const chosen = kinds.find((kind) => kind.id === params.get("kind")) ?? kinds[0];
  const Room = chosen && faceOf(chosen.id).Guess;
  if (!Room) return null;
  return (
    <div className="flex h-full flex-col">
      {kinds.length > 1 && (
        <div className="px-5 pb-2">
          <Choice
            label="What to look for"
            value={chosen.id}
            onChange={(kind) => setParams({ item: address, kind }, { replace: true })}
            options={kinds.map((kind) => [kind.id, kind.headless ?? kind.title] as const)}
          />
        </div>
      )}
      <div className="min-h-0 flex-1">
        <Suspense fallback={<Empty title="Looking at the bytes">One moment …</Empty>}>
          <Room key={address} project={project} address={address} />
        </Suspense>
      </div>
    </div>
  );
}
