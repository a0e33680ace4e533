import type { Kb, Schemas } from "../../api/client";
import { CheckBox } from "../../components/forms";
import { lines } from "../../components/text";
import { TrialGate } from "../trials/TrialGate";
import { Field, Group } from "./fields";
import { KbChoice } from "./KbChoice";
import { COLOUR_NAMES, type Colour, type Settings, Sign } from "./words";

interface Props {
  settings: Settings;
  onChange: (settings: Settings) => void;
  kbs: Kb[];
  models: Schemas["ModelName"][];
  sets: Schemas["SetOut"][];
}

const LANGUAGES = [
  ["", "the asker's"],
  ["en", "English"],
  ["de", "German"],
  ["fr", "French"],
  ["es", "Spanish"],
  ["nl", "Dutch"],
  ["it", "Italian"],
];

/** All settings of a desk's answers. */
export function SettingsForm({ settings, onChange, kbs, models, sets }: Props) {
  const set = (change: Partial<Settings>) => onChange({ ...settings, ...change });
  const choice = <K extends keyof Settings>(
    name: K,
    label: string,
    options: [NonNullable<Settings[K]> & string, string][],
    hint?: string,
  ) => (
    <Field label={label} hint={hint}>
      {(id) => (
        <select
          id={id}
          className="select w-full"
          value={String(settings[name] ?? "")}
          onChange={(e) => set({ [name]: e.target.value } as Partial<Settings>)}
        >
          {options.map(([value, text]) => (
            <option key={value} value={value}>
              {text}
            </option>
          ))}
        </select>
      )}
    </Field>
  );
  const number = (
    name: "passages" | "documents" | "context_tokens" | "answer_tokens",
    label: string,
    least: number,
    most: number,
    hint?: string,
  ) => (
    <Field label={label} hint={hint}>
      {(id) => (
        <input
          id={id}
          type="number"
          className="input w-full"
          min={least}
          max={most}
          value={settings[name] ?? ""}
          placeholder="any number"
          onChange={(e) =>
            set({
              [name]: e.target.value === "" ? null : Number(e.target.value),
            } as Partial<Settings>)
          }
        />
      )}
    </Field>
  );
  const approved = settings.approved_needed ?? 0.8;
  const floor = settings.evidence_needed ?? 0.3;
  return (
    <>
      <Group title="Introduction">
        <Field label="Purpose">
          {(id) => (
            <input
              id={id}
              className="input w-full"
              maxLength={500}
              value={settings.purpose ?? ""}
              placeholder="Answers crews' questions about berths and weather"
              onChange={(e) => set({ purpose: e.target.value })}
            />
          )}
        </Field>
        <Field label="Greeting">
          {(id) => (
            <input
              id={id}
              className="input w-full"
              maxLength={500}
              value={settings.greeting ?? ""}
              onChange={(e) => set({ greeting: e.target.value })}
            />
          )}
        </Field>
        <Field label="First questions" hint="One per line. Chat users can click them.">
          {(id) => (
            <textarea
              id={id}
              className="textarea w-full"
              rows={3}
              defaultValue={(settings.first_questions ?? []).join("\n")}
              onBlur={(e) => set({ first_questions: lines(e.target.value).slice(0, 8) })}
            />
          )}
        </Field>
        <div className="flex flex-wrap items-end gap-4">
          <Field label="Symbol">
            {(id) => (
              <input
                id={id}
                className="input w-20"
                maxLength={4}
                value={settings.symbol ?? ""}
                onChange={(e) => set({ symbol: e.target.value })}
              />
            )}
          </Field>
          <div role="radiogroup" aria-label="Colour" className="flex gap-2 pb-1">
            {COLOUR_NAMES.map((colour: Colour) => (
              <button
                key={colour}
                type="button"
                role="radio"
                aria-checked={settings.colour === colour}
                aria-label={colour}
                title={colour}
                onClick={() => set({ colour })}
                className={`rounded-field cursor-pointer p-0.5 ${settings.colour === colour ? "outline-primary outline-2" : ""}`}
              >
                <Sign name="A" symbol={settings.symbol} colour={colour} />
              </button>
            ))}
          </div>
        </div>
      </Group>
      <KbChoice settings={settings} set={set} kbs={kbs} />
      <Group title="Answers">
        {choice("grounding", "Answer from", [
          ["only_sources", "the documents alone"],
          ["sources_first", "the documents first; else what the model knows, saying so"],
        ])}
        <Field
          label={`Evidence needed before answering: ${Math.round(floor * 100)} %`}
          hint={
            floor < 0.25
              ? "Answers nearly everything, and is wrong more often."
              : floor > 0.65
                ? "Declines many questions that the documents do answer."
                : "Close to the value that measured best."
          }
        >
          {(id) => (
            <input
              id={id}
              type="range"
              className="range range-primary range-sm w-full"
              min={0}
              max={1}
              step={0.05}
              value={floor}
              onChange={(e) => set({ evidence_needed: Number(e.target.value) })}
            />
          )}
        </Field>
        <Field
          label={`Serve an approved answer from: ${Math.round(approved * 100)} %`}
          hint={
            approved === 1
              ? "Only for its own questions, word for word."
              : "How likely it must be that a question means the same as an approved one. Less likely ones are offered as a choice."
          }
        >
          {(id) => (
            <input
              id={id}
              type="range"
              className="range range-primary range-sm w-full"
              min={0.5}
              max={1}
              step={0.05}
              value={approved}
              onChange={(e) => set({ approved_needed: Number(e.target.value) })}
            />
          )}
        </Field>
        {choice("flagged", "Approved answers whose text has changed", [
          ["serve", "are served, with a remark"],
          ["withhold_contradicted", "are withheld if it states another value or is gone"],
          ["withhold", "are withheld until somebody has looked"],
        ])}
        <div className="grid grid-cols-2 gap-3">
          {number("passages", "Passages to search", 1, 40)}
          {number("documents", "Maximum documents", 1, 40)}
          {choice("length", "Length", [
            ["short", "short"],
            ["medium", "medium"],
            ["long", "long"],
          ])}
          {choice("layout", "Form", [
            ["auto", "as the question asks"],
            ["prose", "prose"],
            ["steps", "numbered steps"],
            ["list", "a list"],
            ["table", "a table"],
          ])}
        </div>
        <Field label="Language of messages">
          {(id) => (
            <select
              id={id}
              className="select w-full"
              value={settings.language ?? ""}
              onChange={(e) => set({ language: e.target.value || null })}
            >
              {LANGUAGES.map(([value, text]) => (
                <option key={value} value={value}>
                  {text}
                </option>
              ))}
            </select>
          )}
        </Field>
        <Field
          label="Tags that contain links"
          hint="Links of the cited documents in these tags are offered under an answer. Separated by commas."
        >
          {(id) => (
            <input
              id={id}
              className="input w-full"
              defaultValue={(settings.link_tags ?? []).join(", ")}
              onBlur={(e) =>
                set({
                  link_tags: e.target.value
                    .split(",")
                    .map((tag) => tag.trim())
                    .filter(Boolean),
                })
              }
            />
          )}
        </Field>
      </Group>
      <Group
        title="Composer"
        hint={
          settings.model
            ? undefined
            : "The built-in composer quotes the documents word for word and costs nothing."
        }
      >
        <Field label="Model">
          {(id) => (
            <select
              id={id}
              className="select w-full"
              value={settings.model ?? ""}
              onChange={(e) => set({ model: e.target.value || null })}
            >
              <option value="">built-in composer</option>
              {models.map((model) => (
                <option key={model.name} value={model.name}>
                  {model.name}
                  {model.price_read + model.price_written > 0 &&
                    ` (${model.price_read} / ${model.price_written} ${model.currency} a million tokens)`}
                  {model.error && ": does not answer at present"}
                </option>
              ))}
              {settings.model && !models.some((model) => model.name === settings.model) && (
                <option value={settings.model}>{settings.model}: not available</option>
              )}
            </select>
          )}
        </Field>
        {settings.model && (
          <>
            <Field label="Instructions">
              {(id) => (
                <textarea
                  id={id}
                  className="textarea w-full font-mono text-[13px]"
                  rows={6}
                  maxLength={8000}
                  value={settings.instructions ?? ""}
                  onChange={(e) => set({ instructions: e.target.value })}
                />
              )}
            </Field>
            {choice("unsupported", "Statements that their sources do not support", [
              ["mark", "are marked"],
              ["remove", "are left out"],
            ])}
            <div className="grid grid-cols-2 gap-3">
              {number(
                "context_tokens",
                "Tokens of documents",
                200,
                16000,
                "The maximum sent with a question.",
              )}
              {number("answer_tokens", "Tokens of answer", 50, 4000)}
            </div>
            <Field label={`Temperature: ${settings.temperature ?? 0}`}>
              {(id) => (
                <input
                  id={id}
                  type="range"
                  className="range range-sm w-full"
                  min={0}
                  max={2}
                  step={0.1}
                  value={settings.temperature ?? 0}
                  onChange={(e) => set({ temperature: Number(e.target.value) })}
                />
              )}
            </Field>
          </>
        )}
      </Group>
      <Group
        title="Before it is published"
        hint="The draft is compared with the published version, question by question."
      >
        <TrialGate
          sets={sets}
          chosen={settings.trial_set ?? ""}
          losses={settings.max_losses ?? 0}
          onChange={(chosen, losses) => set({ trial_set: chosen || null, max_losses: losses })}
        />
      </Group>
      <Group title="Access">
        {choice("audience", "Audience", [
          ["members", "members of the team"],
          ["link", "anyone who has a link"],
        ])}
        <Field
          label="Sites that may embed the chat"
          hint="One address per line, such as https://intranet.example."
        >
          {(id) => (
            <textarea
              id={id}
              className="textarea w-full"
              rows={2}
              defaultValue={(settings.frame_origins ?? []).join("\n")}
              onBlur={(e) => set({ frame_origins: lines(e.target.value) })}
            />
          )}
        </Field>
        <CheckBox
          checked={settings.signed_visitors ?? false}
          onChange={(signed) => set({ signed_visitors: signed })}
        >
          Guests need an identity that the site signs
        </CheckBox>
      </Group>
    </>
  );
}
