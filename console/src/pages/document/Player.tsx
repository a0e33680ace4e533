import { type RefObject, useEffect } from "react";
import type { Schemas } from "../../api/client";

/** Whether a document is sound or film. */
export function isRecording(revision: Schemas["RevisionOut"]): boolean {
  return /^(audio|video)\//.test(revision.media_type ?? "");
}

/** Plays a recording, from the second that is cited. */
export function Player({
  revision,
  address,
  from,
  player,
}: {
  revision: Schemas["RevisionOut"];
  address: string;
  from: number | null;
  player: RefObject<HTMLMediaElement | null>;
}) {
  useEffect(() => {
    if (from != null && player.current) player.current.currentTime = from;
  }, [from, player]);
  const common = { controls: true, preload: "metadata", src: address } as const;
  return (
    <div className="bg-base-100 sticky top-0 z-10 -mx-1 mb-5 px-1 py-2 font-sans">
      {revision.media_type?.startsWith("video/") ? (
        <video
          {...common}
          className="max-h-[45vh] w-full"
          ref={player as RefObject<HTMLVideoElement>}
        />
      ) : (
        <audio {...common} className="w-full" ref={player as RefObject<HTMLAudioElement>} />
      )}
    </div>
  );
}
