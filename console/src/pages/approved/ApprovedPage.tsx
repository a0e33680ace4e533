import { useEffect, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { Missing } from "../../App";
import { get, type Schemas, send } from "../../api/client";
import { useResource } from "../../api/useResource";
import { Ago, Failure, place } from "../../components/text";
import { useTeam } from "../../hooks/useSession";
import { useKb } from "../kb/KbPage";
import { ApprovedForm, BLANK, type Fields, fieldsOf, valuesOf } from "./ApprovedForm";
import { Flags } from "./Flags";
import { Served } from "./Served";

type Approved = Schemas["ApprovedOut"];
type State = Approved["state"];

/** One approved answer: written, changed, approved, retired. `new` makes one. */
export function ApprovedPage() {
  const { approved: id = "" } = useParams();
  return id === "new" ? <NewApproved /> : <ExistingApproved id={id} key={id} />;
}

/** A new one, from scratch or from an answer that was given. */
function NewApproved() {
  const { api, path } = useKb();
  const team = useTeam();
  const navigate = useNavigate();
  const [address] = useSearchParams();
  const answer = address.get("answer");
  const asked = address.get("question") ?? "";
  const [fields, setFields] = useState<Fields | null>(
    answer ? null : { ...BLANK, question: asked },
  );
  const [error, setError] = useState<string | null>(null);
  useEffect(() => {
    if (!answer) return;
    get<Schemas["RecordOut"]>(`${team.api}/answers/${answer}`)
      .then((record) =>
        setFields({
          ...BLANK,
          question: record.standalone,
          text: record.text,
          places: record.citations,
        }),
      )
      .catch((problem: Error) => setError(problem.message));
  }, [answer, team.api]);
  const save = async (state: State) => {
    if (!fields) return;
    setError(null);
    try {
      const { places, ...values } = valuesOf(fields);
      const made = answer
        ? await send<Approved>("POST", `${api}/approved/from-answer`, {
            ...values,
            state,
            turn: answer,
          })
        : await send<Approved>("POST", `${api}/approved`, { ...values, state, places });
      void navigate(`${path}/approved/${made.id}`, { replace: true });
    } catch (problem) {
      setError((problem as Error).message);
    }
  };
  return (
    <>
      <p className="mb-3">
        <Link className="link-hover soft" to={`${path}/approved`}>
          Approved answers
        </Link>
      </p>
      <h2 className="mb-4 text-[22px]">
        {answer ? "Approve an answer that was given" : "New approved answer"}
      </h2>
      <Failure message={error} />
      {fields && (
        <ApprovedForm fields={fields} onChange={setFields} fixedPlaces={answer !== null}>
          <button type="button" className="btn btn-primary" onClick={() => void save("approved")}>
            Approve
          </button>
          <button type="button" className="btn" onClick={() => void save("draft")}>
            Save as a draft
          </button>
        </ApprovedForm>
      )}
    </>
  );
}

function ExistingApproved({ id }: { id: string }) {
  const { api, path } = useKb();
  const team = useTeam();
  const navigate = useNavigate();
  const own = `${api}/approved/${id}`;
  const { data: approved, error, setData } = useResource<Approved>(own);
  const [fields, setFields] = useState<Fields | null>(null);
  const [failed, setFailed] = useState<string | null>(null);
  const [saved, setSaved] = useState(false);
  if (error) return <Missing />;
  if (!approved) return null;
  const shown = fields ?? fieldsOf(approved);
  const change = async (values: object) => {
    setFailed(null);
    try {
      const result = await send<Approved>("PATCH", own, values, {
        "If-Match": `"${approved.version}"`,
      });
      setData(result);
      setFields(null);
      setSaved(true);
    } catch (problem) {
      setFailed((problem as Error).message);
    }
  };
  const remove = async () => {
    if (!confirm("Delete this approved answer and all its versions?")) return;
    try {
      await send("DELETE", own);
      void navigate(`${path}/approved`);
    } catch (problem) {
      setFailed((problem as Error).message);
    }
  };
  const edited = fields ? changesOf(fields, approved) : {};
  return (
    <>
      <p className="mb-3 flex flex-wrap items-baseline gap-x-5">
        <Link className="link-hover soft" to={`${path}/approved`}>
          Approved answers
        </Link>
        <Served approved={approved} />
        <span className="soft">
          version {approved.version}, <Ago at={approved.changed_at} />
        </span>
        {approved.turn_id && (
          <Link className="link-hover soft" to={`/t/${team.slug}/answers/${approved.turn_id}`}>
            The answer that it was made from
          </Link>
        )}
      </p>
      <Flags
        key={`flags of version ${approved.version}`}
        api={api}
        path={path}
        mayEdit={team.mayEdit}
        approved={id}
      />
      <Failure message={failed} />
      {team.mayEdit ? (
        <ApprovedForm
          fields={shown}
          onChange={(next) => {
            setFields(next);
            setSaved(false);
          }}
        >
          {approved.state !== "approved" && (
            <button
              type="button"
              className="btn btn-primary"
              onClick={() => void change({ ...edited, state: "approved" })}
            >
              Approve
            </button>
          )}
          <button
            type="button"
            className={`btn ${approved.state === "approved" ? "btn-primary" : ""}`}
            disabled={!fields}
            onClick={() => void change(edited)}
          >
            Save
          </button>
          {approved.state === "approved" && (
            <button
              type="button"
              className="btn"
              onClick={() => void change({ ...edited, state: "retired" })}
            >
              Retire
            </button>
          )}
          <button type="button" className="btn btn-ghost" onClick={() => void remove()}>
            Delete
          </button>
          {saved && <span role="status">Saved.</span>}
        </ApprovedForm>
      ) : (
        <Read approved={approved} />
      )}
      {team.mayEdit && <Versions key={`versions up to ${approved.version}`} own={own} />}
    </>
  );
}

/** What is sent. Places that were not edited stay: they move with the text by themselves. */
function changesOf(fields: Fields, approved: Approved) {
  const { places, ...values } = valuesOf(fields);
  return fields.places === approved.places ? values : { ...values, places };
}

/** For those who may not change it. */
function Read({ approved }: { approved: Approved }) {
  return (
    <article className="max-w-165">
      <h2 className="text-[22px]">{approved.question}</h2>
      <p className="mt-3 whitespace-pre-wrap">{approved.text}</p>
      <ul className="soft mt-4">
        {approved.places.map((one) => (
          <li key={`${one.document_id}${one.start}`}>
            {one.title}
            {one.quote && ` · ${place(one.title, one.locator)}: “${one.quote}”`}
          </li>
        ))}
      </ul>
    </article>
  );
}

function Versions({ own }: { own: string }) {
  const { data } = useResource<Schemas["Page_ApprovedVersionOut_"]>(`${own}/versions`);
  if (!data || data.items.length < 2) return null;
  return (
    <section className="mt-8" aria-label="Versions">
      <h2 className="mb-2 text-[19px]">Versions</h2>
      <ol className="sheet divide-base-300 divide-y">
        {data.items.map((one) => (
          <li key={one.number} className="px-4 py-2.5">
            <p className="soft text-[13px]">
              <b className="text-base-content">Version {one.number}</b> · {one.state} · {one.author}{" "}
              · <Ago at={one.created_at} />
            </p>
            <p className="font-serif">{one.question}</p>
            <p className="line-clamp-3 whitespace-pre-wrap">{one.text}</p>
          </li>
        ))}
      </ol>
    </section>
  );
}
