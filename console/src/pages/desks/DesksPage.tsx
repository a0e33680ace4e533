import { type FormEvent, useState } from "react";
import { Link, useNavigate } from "react-router";
import { get, type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { CreateByName } from "../../components/forms";
import { Ago, Failure, Flagged } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { type Desk, Sign } from "./words";

/** The team's desks: for editors to build, for readers to ask. */
export function DesksPage() {
  const team = useTeam();
  return team.mayEdit ? <Editors /> : <Readers />;
}

function Readers() {
  const team = useTeam();
  const { data, error } = useResource<Schemas["Page_PublicDesk_"]>(`${team.api}/chat-desks`);
  return (
    <>
      <h1 className="mb-5 text-[27px]">Desks</h1>
      <Failure message={error} />
      <ul className="sheet divide-base-300 divide-y">
        {data?.items.map((desk) => (
          <li key={desk.id} className="flex items-center gap-4 px-4 py-3">
            <Sign {...desk} />
            <div>
              <Link className="link-hover font-medium" to={`/chat/${desk.id}`}>
                {desk.name}
              </Link>
              <p className="soft">{desk.purpose}</p>
            </div>
          </li>
        ))}
        {data?.items.length === 0 && (
          <li className="soft p-5">
            No desk is open yet. An editor of the team builds one and publishes it.
          </li>
        )}
      </ul>
    </>
  );
}

function Editors() {
  const team = useTeam();
  const navigate = useNavigate();
  const { data, error } = useResource<Schemas["Page_DeskOut_"]>(`${team.api}/desks`);
  const [name, setName] = useState("");
  const [failed, setFailed] = useState<string | null>(null);
  const create = (event: FormEvent) => {
    event.preventDefault();
    get<Schemas["Page_KbOut_"]>(`${team.api}/kbs`)
      .then((kbs) => {
        const first = kbs.items.find((kb) => !kb.expires_at);
        return send<Desk>("POST", `${team.api}/desks`, {
          name,
          settings: { kbs: first ? [{ kb: first.id }] : [] },
        });
      })
      .then((desk) => navigate(`/t/${team.slug}/desks/${desk.slug}`))
      .catch((problem: Error) => setFailed(problem.message));
  };
  return (
    <>
      <h1 className="text-[27px]">Desks</h1>
      <p className="soft mt-1 mb-5">
        A desk is what chat users talk to. It answers from the knowledge bases that you choose, by
        the rules that you set.
      </p>
      <Failure message={error ?? failed} />
      <ul className="sheet divide-base-300 divide-y">
        {data?.items.map((desk) => (
          <li key={desk.id} className="flex flex-wrap items-center gap-x-4 gap-y-1 px-4 py-3">
            <Sign name={desk.name} symbol={desk.draft.symbol} colour={desk.draft.colour} />
            <div className="min-w-0">
              <Link className="link-hover font-medium" to={`/t/${team.slug}/desks/${desk.slug}`}>
                {desk.name}
              </Link>
              <p className="soft">
                {desk.published ? `version ${desk.published.number} is published` : "draft only"}
                {desk.published && desk.changed && " · the draft differs"} ·{" "}
                {desk.draft.model || "built-in composer"} · {desk.draft.kbs?.length ?? 0}{" "}
                {desk.draft.kbs?.length === 1 ? "knowledge base" : "knowledge bases"}
                {desk.links > 0 && ` · ${desk.links} ${desk.links === 1 ? "link" : "links"}`}
              </p>
              <Flagged number={desk.flagged} />
            </div>
            <span className="soft ml-auto flex items-baseline gap-5">
              {desk.published && (
                <Link className="link text-primary" to={`/chat/${desk.id}`}>
                  Open chat
                </Link>
              )}
              <Ago at={desk.changed_at} />
            </span>
          </li>
        ))}
        {data?.items.length === 0 && (
          <li className="soft p-5">
            No desk yet. Name the first one; you can try it before anybody else sees it.
          </li>
        )}
      </ul>
      <CreateByName what="desk" name={name} onName={setName} onCreate={create} />
    </>
  );
}
