BEGIN TRANSACTION;
CREATE TABLE alembic_version (
	version_num VARCHAR(32) NOT NULL,
	CONSTRAINT alembic_version_pkc PRIMARY KEY (version_num)
);
INSERT INTO "alembic_version" VALUES('0039');
CREATE TABLE answer_sources (
	"key" INTEGER NOT NULL,
	team_id VARCHAR NOT NULL,
	kb_id VARCHAR NOT NULL,
	turn_id VARCHAR NOT NULL,
	document_id VARCHAR NOT NULL,
	title VARCHAR NOT NULL,
	revision_id VARCHAR NOT NULL,
	start INTEGER NOT NULL,
	"end" INTEGER NOT NULL,
	quote VARCHAR NOT NULL,
	checked_id VARCHAR,
	change VARCHAR NOT NULL,
	new_text VARCHAR NOT NULL,
	changed_at DATETIME NOT NULL,
	CONSTRAINT pk_answer_sources PRIMARY KEY ("key"),
	CONSTRAINT fk_answer_sources_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_answer_sources_kb_id FOREIGN KEY(kb_id) REFERENCES kbs (id) ON DELETE CASCADE,
	CONSTRAINT fk_answer_sources_turn_id FOREIGN KEY(turn_id) REFERENCES turns (id) ON DELETE CASCADE
);
CREATE TABLE approved_answers (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	kb_id VARCHAR NOT NULL,
	question VARCHAR NOT NULL,
	phrasings JSON NOT NULL,
	text VARCHAR NOT NULL,
	places JSON NOT NULL,
	category VARCHAR NOT NULL,
	valid_from DATE,
	valid_until DATE,
	owner VARCHAR NOT NULL,
	state VARCHAR(20) NOT NULL,
	approved_by VARCHAR NOT NULL,
	approved_at DATETIME,
	turn_id VARCHAR,
	version INTEGER NOT NULL,
	created_at DATETIME NOT NULL,
	changed_at DATETIME NOT NULL, followed_at DATETIME,
	CONSTRAINT pk_approved_answers PRIMARY KEY (id),
	CONSTRAINT fk_approved_answers_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_approved_answers_kb_id FOREIGN KEY(kb_id) REFERENCES kbs (id) ON DELETE CASCADE
);
CREATE TABLE approved_flags (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	kb_id VARCHAR NOT NULL,
	approved_id VARCHAR NOT NULL,
	place INTEGER NOT NULL,
	document_id VARCHAR NOT NULL,
	title VARCHAR NOT NULL,
	change VARCHAR NOT NULL,
	old_text VARCHAR NOT NULL,
	new_text VARCHAR NOT NULL,
	revision_id VARCHAR,
	start INTEGER NOT NULL,
	"end" INTEGER NOT NULL,
	state VARCHAR(20) NOT NULL,
	settled_by VARCHAR NOT NULL,
	created_at DATETIME NOT NULL,
	changed_at DATETIME NOT NULL,
	CONSTRAINT pk_approved_flags PRIMARY KEY (id),
	CONSTRAINT fk_approved_flags_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_approved_flags_kb_id FOREIGN KEY(kb_id) REFERENCES kbs (id) ON DELETE CASCADE,
	CONSTRAINT fk_approved_flags_approved_id FOREIGN KEY(approved_id) REFERENCES approved_answers (id) ON DELETE CASCADE,
	CONSTRAINT uq_approved_flags_approved_id_place UNIQUE (approved_id, place)
);
CREATE TABLE approved_versions (
	"key" INTEGER NOT NULL,
	team_id VARCHAR NOT NULL,
	approved_id VARCHAR NOT NULL,
	number INTEGER NOT NULL,
	content JSON NOT NULL,
	author VARCHAR NOT NULL,
	created_at DATETIME NOT NULL,
	CONSTRAINT pk_approved_versions PRIMARY KEY ("key"),
	CONSTRAINT fk_approved_versions_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_approved_versions_approved_id FOREIGN KEY(approved_id) REFERENCES approved_answers (id) ON DELETE CASCADE,
	CONSTRAINT uq_approved_versions_approved_id_number UNIQUE (approved_id, number)
);
CREATE TABLE audit_entries (
	"key" INTEGER NOT NULL PRIMARY KEY AUTOINCREMENT,
	log VARCHAR NOT NULL,
	number INTEGER NOT NULL,
	at DATETIME NOT NULL,
	actor_kind VARCHAR NOT NULL,
	actor_id VARCHAR NOT NULL,
	action VARCHAR NOT NULL,
	target VARCHAR NOT NULL,
	changes JSON NOT NULL,
	outcome VARCHAR NOT NULL,
	problem VARCHAR,
	count INTEGER NOT NULL,
	request_id VARCHAR,
	who JSON,
	salt VARCHAR,
	who_hash VARCHAR NOT NULL,
	previous VARCHAR NOT NULL,
	hash VARCHAR NOT NULL,
	CONSTRAINT uq_audit_entries_log_number UNIQUE (log, number)
);
CREATE TABLE audit_forwarding (
	address VARCHAR NOT NULL,
	"key" INTEGER NOT NULL,
	CONSTRAINT pk_audit_forwarding PRIMARY KEY (address)
);
CREATE TABLE audit_logs (
	log VARCHAR NOT NULL,
	number INTEGER NOT NULL,
	hash VARCHAR NOT NULL,
	trimmed INTEGER NOT NULL,
	trimmed_hash VARCHAR NOT NULL,
	CONSTRAINT pk_audit_logs PRIMARY KEY (log)
);
CREATE TABLE backups (
	id VARCHAR NOT NULL,
	state VARCHAR(20) NOT NULL,
	asked_by VARCHAR NOT NULL,
	place VARCHAR NOT NULL,
	encrypted BOOLEAN NOT NULL,
	total INTEGER NOT NULL,
	done INTEGER NOT NULL,
	new INTEGER NOT NULL,
	files INTEGER NOT NULL,
	documents INTEGER NOT NULL,
	checked VARCHAR NOT NULL,
	error VARCHAR NOT NULL,
	created_at DATETIME NOT NULL,
	finished_at DATETIME,
	deleted_at DATETIME,
	CONSTRAINT pk_backups PRIMARY KEY (id)
);
CREATE TABLE channel_messages (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	channel_id VARCHAR NOT NULL,
	external_id VARCHAR NOT NULL,
	kind VARCHAR(20) NOT NULL,
	state VARCHAR(20) NOT NULL,
	reason VARCHAR NOT NULL,
	thread VARCHAR NOT NULL,
	room VARCHAR NOT NULL,
	sender VARCHAR NOT NULL,
	sender_name VARCHAR NOT NULL,
	text VARCHAR NOT NULL,
	about VARCHAR NOT NULL,
	address JSON NOT NULL,
	turn_id VARCHAR,
	conversation_id VARCHAR,
	reply VARCHAR NOT NULL,
	sources JSON NOT NULL,
	replaces VARCHAR NOT NULL,
	sent_id VARCHAR NOT NULL,
	attempts INTEGER NOT NULL,
	run_after DATETIME NOT NULL,
	received_at DATETIME NOT NULL,
	answered_at DATETIME,
	sent_at DATETIME,
	CONSTRAINT pk_channel_messages PRIMARY KEY (id),
	CONSTRAINT fk_channel_messages_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_channel_messages_channel_id FOREIGN KEY(channel_id) REFERENCES channels (id) ON DELETE CASCADE,
	CONSTRAINT uq_channel_messages_channel_id_external_id UNIQUE (channel_id, external_id)
);
CREATE TABLE channels (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	desk_id VARCHAR NOT NULL,
	name VARCHAR NOT NULL,
	kind VARCHAR NOT NULL,
	settings JSON NOT NULL,
	credentials BLOB,
	credential_names JSON NOT NULL,
	paused BOOLEAN NOT NULL,
	position VARCHAR NOT NULL,
	error VARCHAR,
	failing_since DATETIME,
	noticed BOOLEAN NOT NULL,
	connected_at DATETIME,
	created_at DATETIME NOT NULL,
	changed_at DATETIME NOT NULL,
	version INTEGER NOT NULL,
	CONSTRAINT pk_channels PRIMARY KEY (id),
	CONSTRAINT fk_channels_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_channels_desk_id FOREIGN KEY(desk_id) REFERENCES desks (id) ON DELETE CASCADE,
	CONSTRAINT uq_channels_team_id_name UNIQUE (team_id, name)
);
CREATE TABLE "conversations" (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	kb_id VARCHAR,
	asker VARCHAR NOT NULL,
	title VARCHAR NOT NULL,
	created_at DATETIME NOT NULL,
	changed_at DATETIME NOT NULL,
	desk_id VARCHAR,
	CONSTRAINT pk_conversations PRIMARY KEY (id),
	CONSTRAINT fk_conversations_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_conversations_kb_id FOREIGN KEY(kb_id) REFERENCES kbs (id) ON DELETE CASCADE,
	CONSTRAINT fk_conversations_desk_id FOREIGN KEY(desk_id) REFERENCES desks (id) ON DELETE CASCADE
);
CREATE TABLE default_quotas (
	"key" INTEGER NOT NULL,
	limits JSON NOT NULL,
	CONSTRAINT pk_default_quotas PRIMARY KEY ("key")
);
CREATE TABLE deliveries (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	receiver_id VARCHAR NOT NULL,
	notice_id VARCHAR NOT NULL,
	state VARCHAR(20) NOT NULL,
	attempts INTEGER NOT NULL,
	error VARCHAR,
	run_after DATETIME NOT NULL,
	created_at DATETIME NOT NULL,
	sent_at DATETIME,
	CONSTRAINT pk_deliveries PRIMARY KEY (id),
	CONSTRAINT fk_deliveries_notice_id FOREIGN KEY(notice_id) REFERENCES notices (id) ON DELETE CASCADE,
	CONSTRAINT fk_deliveries_receiver_id FOREIGN KEY(receiver_id) REFERENCES receivers (id) ON DELETE CASCADE,
	CONSTRAINT fk_deliveries_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE
);
CREATE TABLE descriptions (
	revision_id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	kb_id VARCHAR NOT NULL,
	model VARCHAR NOT NULL,
	title VARCHAR NOT NULL,
	description VARCHAR NOT NULL,
	error VARCHAR,
	tries INTEGER NOT NULL,
	again_at DATETIME,
	at DATETIME NOT NULL,
	CONSTRAINT pk_descriptions PRIMARY KEY (revision_id),
	CONSTRAINT fk_descriptions_kb_id FOREIGN KEY(kb_id) REFERENCES kbs (id) ON DELETE CASCADE,
	CONSTRAINT fk_descriptions_revision_id FOREIGN KEY(revision_id) REFERENCES revisions (id) ON DELETE CASCADE,
	CONSTRAINT fk_descriptions_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE
);
CREATE TABLE desk_links (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	desk_id VARCHAR NOT NULL,
	name VARCHAR NOT NULL,
	start VARCHAR NOT NULL,
	secret_hash VARCHAR NOT NULL,
	per_minute INTEGER NOT NULL,
	created_at DATETIME NOT NULL,
	expires_at DATETIME,
	revoked_at DATETIME,
	last_used_at DATETIME,
	CONSTRAINT pk_desk_links PRIMARY KEY (id),
	CONSTRAINT fk_desk_links_desk_id FOREIGN KEY(desk_id) REFERENCES desks (id) ON DELETE CASCADE,
	CONSTRAINT fk_desk_links_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT uq_desk_links_secret_hash UNIQUE (secret_hash)
);
CREATE TABLE desk_versions (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	desk_id VARCHAR NOT NULL,
	number INTEGER NOT NULL,
	settings JSON NOT NULL,
	note VARCHAR NOT NULL,
	author VARCHAR NOT NULL,
	created_at DATETIME NOT NULL,
	CONSTRAINT pk_desk_versions PRIMARY KEY (id),
	CONSTRAINT fk_desk_versions_desk_id FOREIGN KEY(desk_id) REFERENCES desks (id) ON DELETE CASCADE,
	CONSTRAINT fk_desk_versions_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT uq_desk_versions_desk_id_number UNIQUE (desk_id, number)
);
CREATE TABLE desks (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	slug VARCHAR NOT NULL,
	name VARCHAR NOT NULL,
	draft JSON NOT NULL,
	published INTEGER,
	created_at DATETIME NOT NULL,
	changed_at DATETIME NOT NULL,
	version INTEGER NOT NULL, second_version INTEGER, second_share INTEGER DEFAULT '0' NOT NULL, second_since DATETIME, visitor_key BLOB,
	CONSTRAINT pk_desks PRIMARY KEY (id),
	CONSTRAINT fk_desks_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT uq_desks_team_id_slug UNIQUE (team_id, slug)
);
CREATE TABLE document_names (
	document_key INTEGER NOT NULL,
	lookup VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	kb_id VARCHAR NOT NULL,
	CONSTRAINT pk_document_names PRIMARY KEY (document_key, lookup),
	CONSTRAINT fk_document_names_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_document_names_kb_id FOREIGN KEY(kb_id) REFERENCES kbs (id) ON DELETE CASCADE,
	CONSTRAINT fk_document_names_document_key FOREIGN KEY(document_key) REFERENCES documents ("key") ON DELETE CASCADE
);
CREATE TABLE document_references (
	"key" INTEGER NOT NULL,
	team_id VARCHAR NOT NULL,
	kb_id VARCHAR NOT NULL,
	document_key INTEGER NOT NULL,
	relation VARCHAR(20) NOT NULL,
	names VARCHAR NOT NULL,
	lookup VARCHAR NOT NULL,
	named_on DATE,
	target_key INTEGER,
	CONSTRAINT pk_document_references PRIMARY KEY ("key"),
	CONSTRAINT fk_document_references_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_document_references_kb_id FOREIGN KEY(kb_id) REFERENCES kbs (id) ON DELETE CASCADE,
	CONSTRAINT fk_document_references_document_key FOREIGN KEY(document_key) REFERENCES documents ("key") ON DELETE CASCADE,
	CONSTRAINT fk_document_references_target_key FOREIGN KEY(target_key) REFERENCES documents ("key") ON DELETE SET NULL
);
CREATE TABLE document_tags (
	document_key INTEGER NOT NULL,
	tag VARCHAR NOT NULL,
	value VARCHAR NOT NULL,
	kb_id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	CONSTRAINT pk_document_tags PRIMARY KEY (document_key, tag),
	CONSTRAINT fk_document_tags_document_key FOREIGN KEY(document_key) REFERENCES documents ("key") ON DELETE CASCADE,
	CONSTRAINT fk_document_tags_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE
);
CREATE TABLE documents (
	"key" INTEGER NOT NULL PRIMARY KEY AUTOINCREMENT,
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	kb_id VARCHAR NOT NULL,
	name VARCHAR NOT NULL,
	title VARCHAR NOT NULL,
	state VARCHAR(20) NOT NULL,
	progress DOUBLE,
	error_code VARCHAR,
	error VARCHAR,
	revision_id VARCHAR,
	latest_revision_id VARCHAR NOT NULL,
	tags JSON NOT NULL,
	created_at DATETIME NOT NULL,
	changed_at DATETIME NOT NULL,
	version INTEGER NOT NULL, parent_key INTEGER, description VARCHAR DEFAULT '' NOT NULL, source_id VARCHAR, link VARCHAR DEFAULT '' NOT NULL, described_by VARCHAR, change INTEGER DEFAULT '0' NOT NULL,
	CONSTRAINT fk_documents_kb_id FOREIGN KEY(kb_id) REFERENCES kbs (id) ON DELETE CASCADE,
	CONSTRAINT fk_documents_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT uq_documents_id UNIQUE (id),
	CONSTRAINT uq_documents_kb_id_name UNIQUE (kb_id, name)
);
CREATE TABLE editions (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	kb_id VARCHAR NOT NULL,
	embedder VARCHAR,
	settings JSON NOT NULL,
	created_at DATETIME NOT NULL, number INTEGER DEFAULT '1' NOT NULL, replaces_active BOOLEAN DEFAULT '0' NOT NULL, budget DOUBLE, paused_by VARCHAR,
	CONSTRAINT pk_editions PRIMARY KEY (id),
	CONSTRAINT fk_editions_kb_id FOREIGN KEY(kb_id) REFERENCES kbs (id) ON DELETE CASCADE,
	CONSTRAINT fk_editions_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE
);
CREATE TABLE embedders (
	id VARCHAR NOT NULL,
	name VARCHAR NOT NULL,
	url VARCHAR NOT NULL,
	remote VARCHAR NOT NULL,
	secret BLOB,
	dimensions INTEGER NOT NULL,
	cut BOOLEAN NOT NULL,
	question_prefix VARCHAR NOT NULL,
	passage_prefix VARCHAR NOT NULL,
	factor DOUBLE NOT NULL,
	"offset" DOUBLE NOT NULL,
	batch INTEGER NOT NULL,
	at_once INTEGER NOT NULL,
	price DOUBLE NOT NULL,
	removed_at DATETIME,
	currency VARCHAR NOT NULL,
	team_ids JSON,
	seconds DOUBLE NOT NULL,
	tries INTEGER NOT NULL,
	enabled BOOLEAN NOT NULL,
	error VARCHAR,
	checked_at DATETIME,
	created_at DATETIME NOT NULL,
	changed_at DATETIME NOT NULL,
	version INTEGER NOT NULL, directory VARCHAR, request_seconds DOUBLE, tokens_counted INTEGER DEFAULT '0' NOT NULL, tokens_estimated INTEGER DEFAULT '0' NOT NULL, uncut INTEGER,
	CONSTRAINT pk_embedders PRIMARY KEY (id),
	CONSTRAINT uq_embedders_name UNIQUE (name)
);
CREATE TABLE "erasures" (
	id VARCHAR NOT NULL,
	person_id VARCHAR,
	asked_by VARCHAR NOT NULL,
	removed JSON NOT NULL,
	mentions JSON NOT NULL,
	in_backups_until DATETIME,
	created_at DATETIME NOT NULL,
	team_id VARCHAR,
	document_id VARCHAR,
	remains JSON DEFAULT '{}' NOT NULL,
	finished_at DATETIME,
	CONSTRAINT pk_erasures PRIMARY KEY (id)
);
CREATE TABLE feedback (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	desk_id VARCHAR,
	turn_id VARCHAR NOT NULL,
	citation INTEGER NOT NULL,
	asker VARCHAR NOT NULL,
	helpful BOOLEAN NOT NULL,
	reason VARCHAR NOT NULL,
	comment VARCHAR NOT NULL,
	created_at DATETIME NOT NULL, handled BOOLEAN DEFAULT '0' NOT NULL, assignee VARCHAR DEFAULT '' NOT NULL, reply VARCHAR DEFAULT '' NOT NULL, replied_by VARCHAR DEFAULT '' NOT NULL,
	CONSTRAINT pk_feedback PRIMARY KEY (id),
	CONSTRAINT fk_feedback_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_feedback_turn_id FOREIGN KEY(turn_id) REFERENCES turns (id) ON DELETE CASCADE,
	CONSTRAINT uq_feedback_turn_id_citation_asker UNIQUE (turn_id, citation, asker)
);
CREATE TABLE followed_answers (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	desk_id VARCHAR NOT NULL,
	turn_id VARCHAR NOT NULL,
	asker VARCHAR NOT NULL,
	question VARCHAR NOT NULL,
	answer VARCHAR NOT NULL,
	outcome VARCHAR NOT NULL,
	composed BOOLEAN NOT NULL,
	documents JSON NOT NULL,
	kb_ids JSON NOT NULL,
	channel_id VARCHAR,
	thread VARCHAR NOT NULL,
	address JSON NOT NULL,
	email VARCHAR NOT NULL,
	mail_waiting BOOLEAN NOT NULL,
	feed_hash VARCHAR NOT NULL,
	changes JSON NOT NULL,
	checked_at DATETIME NOT NULL,
	changed_at DATETIME,
	created_at DATETIME NOT NULL,
	CONSTRAINT pk_followed_answers PRIMARY KEY (id),
	CONSTRAINT fk_followed_answers_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_followed_answers_desk_id FOREIGN KEY(desk_id) REFERENCES desks (id) ON DELETE CASCADE,
	CONSTRAINT fk_followed_answers_channel_id FOREIGN KEY(channel_id) REFERENCES channels (id) ON DELETE CASCADE,
	CONSTRAINT uq_followed_answers_asker_turn_id UNIQUE (asker, turn_id),
	CONSTRAINT uq_followed_answers_feed_hash UNIQUE (feed_hash)
);
CREATE TABLE gap_questions (
	"key" INTEGER NOT NULL,
	team_id VARCHAR NOT NULL,
	gap_id VARCHAR,
	turn_id VARCHAR NOT NULL,
	kind VARCHAR(20) NOT NULL,
	question VARCHAR NOT NULL,
	desk_id VARCHAR,
	kb_ids JSON NOT NULL,
	found JSON NOT NULL,
	sufficiency DOUBLE NOT NULL,
	vector BLOB,
	embedder VARCHAR,
	asked_at DATETIME NOT NULL,
	CONSTRAINT pk_gap_questions PRIMARY KEY ("key"),
	CONSTRAINT fk_gap_questions_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_gap_questions_gap_id FOREIGN KEY(gap_id) REFERENCES gaps (id) ON DELETE CASCADE,
	CONSTRAINT fk_gap_questions_turn_id FOREIGN KEY(turn_id) REFERENCES turns (id) ON DELETE CASCADE,
	CONSTRAINT uq_gap_questions_turn_id UNIQUE (turn_id)
);
CREATE TABLE gaps (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	question VARCHAR NOT NULL,
	state VARCHAR(20) NOT NULL,
	resolution VARCHAR NOT NULL,
	resolved_by VARCHAR NOT NULL,
	assignee VARCHAR NOT NULL,
	comments JSON NOT NULL,
	answer JSON,
	checked_at DATETIME NOT NULL,
	created_at DATETIME NOT NULL,
	changed_at DATETIME NOT NULL,
	CONSTRAINT pk_gaps PRIMARY KEY (id),
	CONSTRAINT fk_gaps_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE
);
CREATE TABLE idempotent_replies (
	caller VARCHAR NOT NULL,
	route VARCHAR NOT NULL,
	"key" VARCHAR NOT NULL,
	body_hash VARCHAR NOT NULL,
	status INTEGER NOT NULL,
	body VARCHAR NOT NULL,
	created_at DATETIME NOT NULL,
	CONSTRAINT pk_idempotent_replies PRIMARY KEY (caller, route, "key")
);
CREATE TABLE invitations (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	email VARCHAR NOT NULL,
	name VARCHAR NOT NULL,
	role VARCHAR(20) NOT NULL,
	secret_hash VARCHAR NOT NULL,
	invited_by VARCHAR NOT NULL,
	created_at DATETIME NOT NULL,
	expires_at DATETIME NOT NULL,
	CONSTRAINT pk_invitations PRIMARY KEY (id),
	CONSTRAINT fk_invitations_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT uq_invitations_secret_hash UNIQUE (secret_hash),
	CONSTRAINT uq_invitations_team_id_email UNIQUE (team_id, email)
);
CREATE TABLE jobs (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	kb_id VARCHAR NOT NULL,
	document_key INTEGER NOT NULL,
	revision_id VARCHAR NOT NULL,
	stage VARCHAR(20) NOT NULL,
	state VARCHAR(20) NOT NULL,
	attempts INTEGER NOT NULL,
	done INTEGER NOT NULL,
	total INTEGER NOT NULL,
	error VARCHAR,
	run_after DATETIME NOT NULL,
	created_at DATETIME NOT NULL,
	changed_at DATETIME NOT NULL, edition_id VARCHAR, embedder VARCHAR,
	CONSTRAINT pk_jobs PRIMARY KEY (id),
	CONSTRAINT fk_jobs_document_key FOREIGN KEY(document_key) REFERENCES documents ("key") ON DELETE CASCADE,
	CONSTRAINT fk_jobs_kb_id FOREIGN KEY(kb_id) REFERENCES kbs (id) ON DELETE CASCADE,
	CONSTRAINT fk_jobs_revision_id FOREIGN KEY(revision_id) REFERENCES revisions (id) ON DELETE CASCADE,
	CONSTRAINT fk_jobs_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE
);
CREATE TABLE kbs (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	slug VARCHAR NOT NULL,
	name VARCHAR NOT NULL,
	description VARCHAR NOT NULL,
	edition_id VARCHAR NOT NULL,
	created_at DATETIME NOT NULL,
	expires_at DATETIME,
	version INTEGER NOT NULL, describer VARCHAR, outdated VARCHAR(20) DEFAULT 'lower' NOT NULL, proposes_questions BOOLEAN DEFAULT '0' NOT NULL, proposer VARCHAR, trial_set VARCHAR, max_losses INTEGER DEFAULT '0' NOT NULL, transcriber VARCHAR, spoken VARCHAR, viewer VARCHAR, max_pictures INTEGER DEFAULT '20' NOT NULL, accepts_proposed_documents BOOLEAN DEFAULT '0' NOT NULL,
	CONSTRAINT pk_kbs PRIMARY KEY (id),
	CONSTRAINT fk_kbs_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT uq_kbs_team_id_slug UNIQUE (team_id, slug)
);
CREATE TABLE keys (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	name VARCHAR NOT NULL,
	start VARCHAR NOT NULL,
	secret_hash VARCHAR NOT NULL,
	role VARCHAR(20) NOT NULL,
	kb_ids JSON,
	created_at DATETIME NOT NULL,
	expires_at DATETIME,
	last_used_at DATETIME, made_by VARCHAR DEFAULT '' NOT NULL, by_operator BOOLEAN DEFAULT '0' NOT NULL, requests_per_minute INTEGER,
	CONSTRAINT pk_keys PRIMARY KEY (id),
	CONSTRAINT fk_keys_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT uq_keys_secret_hash UNIQUE (secret_hash)
);
CREATE TABLE members (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	person_id VARCHAR NOT NULL,
	role VARCHAR(20) NOT NULL,
	created_at DATETIME NOT NULL, notices_seen_at DATETIME, by_rule BOOLEAN DEFAULT '0' NOT NULL,
	CONSTRAINT pk_members PRIMARY KEY (id),
	CONSTRAINT fk_members_person_id FOREIGN KEY(person_id) REFERENCES people (id) ON DELETE CASCADE,
	CONSTRAINT fk_members_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT uq_members_team_id_person_id UNIQUE (team_id, person_id)
);
CREATE TABLE models (
	id VARCHAR NOT NULL,
	name VARCHAR NOT NULL,
	url VARCHAR NOT NULL,
	remote VARCHAR NOT NULL,
	secret BLOB,
	price_read DOUBLE NOT NULL,
	price_written DOUBLE NOT NULL,
	currency VARCHAR NOT NULL,
	team_ids JSON,
	seconds DOUBLE NOT NULL,
	tries INTEGER NOT NULL,
	enabled BOOLEAN NOT NULL,
	error VARCHAR,
	checked_at DATETIME,
	created_at DATETIME NOT NULL,
	changed_at DATETIME NOT NULL,
	version INTEGER NOT NULL,
	CONSTRAINT pk_models PRIMARY KEY (id),
	CONSTRAINT uq_models_name UNIQUE (name)
);
CREATE TABLE "notices" (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	kb_id VARCHAR,
	source_id VARCHAR,
	kind VARCHAR NOT NULL,
	message VARCHAR NOT NULL,
	data JSON NOT NULL,
	created_at DATETIME NOT NULL, event BOOLEAN DEFAULT '0' NOT NULL,
	CONSTRAINT pk_notices PRIMARY KEY (id),
	CONSTRAINT fk_notices_source_id FOREIGN KEY(source_id) REFERENCES sources (id) ON DELETE CASCADE,
	CONSTRAINT fk_notices_kb_id FOREIGN KEY(kb_id) REFERENCES kbs (id) ON DELETE CASCADE,
	CONSTRAINT fk_notices_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE
);
CREATE TABLE page_edges (
	document_key INTEGER NOT NULL,
	team_id VARCHAR NOT NULL,
	kb_id VARCHAR NOT NULL,
	collection VARCHAR NOT NULL,
	fingerprints JSON NOT NULL,
	left_out JSON NOT NULL,
	CONSTRAINT pk_page_edges PRIMARY KEY (document_key),
	CONSTRAINT fk_page_edges_document_key FOREIGN KEY(document_key) REFERENCES documents ("key") ON DELETE CASCADE,
	CONSTRAINT fk_page_edges_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_page_edges_kb_id FOREIGN KEY(kb_id) REFERENCES kbs (id) ON DELETE CASCADE
);
CREATE TABLE passage_counts (
	edition_id VARCHAR NOT NULL,
	passages INTEGER NOT NULL,
	CONSTRAINT pk_passage_counts PRIMARY KEY (edition_id),
	CONSTRAINT fk_passage_counts_edition_id_editions FOREIGN KEY(edition_id) REFERENCES editions (id) ON DELETE CASCADE
);
CREATE TABLE passage_uses (
	"key" INTEGER NOT NULL,
	team_id VARCHAR NOT NULL,
	kb_id VARCHAR NOT NULL,
	document_id VARCHAR NOT NULL,
	revision_id VARCHAR NOT NULL,
	start INTEGER NOT NULL,
	found INTEGER NOT NULL,
	cited INTEGER NOT NULL,
	last_found_at DATETIME NOT NULL,
	last_cited_at DATETIME,
	CONSTRAINT pk_passage_uses PRIMARY KEY ("key"),
	CONSTRAINT fk_passage_uses_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_passage_uses_kb_id FOREIGN KEY(kb_id) REFERENCES kbs (id) ON DELETE CASCADE,
	CONSTRAINT uq_passage_uses_revision_id_start UNIQUE (revision_id, start)
);
CREATE TABLE passages (
	id INTEGER NOT NULL PRIMARY KEY AUTOINCREMENT,
	team_id VARCHAR NOT NULL,
	edition_id VARCHAR NOT NULL,
	document_key INTEGER NOT NULL,
	revision_id VARCHAR NOT NULL,
	ordinal INTEGER NOT NULL,
	start INTEGER NOT NULL,
	"end" INTEGER NOT NULL,
	text VARCHAR NOT NULL,
	context VARCHAR NOT NULL,
	tokens INTEGER NOT NULL,
	locator JSON NOT NULL,
	parts JSON NOT NULL,
	embedded_text VARCHAR NOT NULL,
	CONSTRAINT fk_passages_document_key FOREIGN KEY(document_key) REFERENCES documents ("key") ON DELETE CASCADE,
	CONSTRAINT fk_passages_edition_id FOREIGN KEY(edition_id) REFERENCES editions (id) ON DELETE CASCADE,
	CONSTRAINT fk_passages_revision_id FOREIGN KEY(revision_id) REFERENCES revisions (id) ON DELETE CASCADE,
	CONSTRAINT fk_passages_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE
);
CREATE TABLE password_links (
	secret_hash VARCHAR NOT NULL,
	person_id VARCHAR NOT NULL,
	expires_at DATETIME NOT NULL,
	CONSTRAINT pk_password_links PRIMARY KEY (secret_hash),
	CONSTRAINT fk_password_links_person_id FOREIGN KEY(person_id) REFERENCES people (id) ON DELETE CASCADE
);
CREATE TABLE "people" (
	id VARCHAR NOT NULL,
	email VARCHAR NOT NULL,
	name VARCHAR NOT NULL,
	password_hash VARCHAR NOT NULL,
	operator BOOLEAN NOT NULL,
	created_at DATETIME NOT NULL,
	subject VARCHAR,
	operator_by_rule BOOLEAN DEFAULT '0' NOT NULL,
	CONSTRAINT pk_people PRIMARY KEY (id),
	CONSTRAINT uq_people_email UNIQUE (email),
	CONSTRAINT uq_people_subject UNIQUE (subject)
);
CREATE TABLE picture_descriptions (
	"key" INTEGER NOT NULL,
	team_id VARCHAR NOT NULL,
	sha256 VARCHAR NOT NULL,
	model VARCHAR NOT NULL,
	blob VARCHAR,
	description VARCHAR NOT NULL,
	text VARCHAR NOT NULL,
	error VARCHAR,
	tries INTEGER NOT NULL,
	again_at DATETIME,
	at DATETIME NOT NULL,
	CONSTRAINT pk_picture_descriptions PRIMARY KEY ("key"),
	CONSTRAINT fk_picture_descriptions_team_id_teams FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT uq_picture_descriptions_team_id_sha256_model UNIQUE (team_id, sha256, model)
);
CREATE TABLE proposal_runs (
	document_id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	kb_id VARCHAR NOT NULL,
	revision_id VARCHAR,
	waiting BOOLEAN NOT NULL,
	tried INTEGER NOT NULL,
	error VARCHAR NOT NULL,
	changed_at DATETIME NOT NULL, passages INTEGER DEFAULT '0' NOT NULL, written JSON DEFAULT '{}' NOT NULL, tries INTEGER DEFAULT '0' NOT NULL, again_at DATETIME,
	CONSTRAINT pk_proposal_runs PRIMARY KEY (document_id),
	CONSTRAINT fk_proposal_runs_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_proposal_runs_kb_id FOREIGN KEY(kb_id) REFERENCES kbs (id) ON DELETE CASCADE,
	CONSTRAINT fk_proposal_runs_document_id FOREIGN KEY(document_id) REFERENCES documents (id) ON DELETE CASCADE
);
CREATE TABLE proposals (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	kb_id VARCHAR NOT NULL,
	document_id VARCHAR NOT NULL,
	revision_id VARCHAR NOT NULL,
	start INTEGER NOT NULL,
	"end" INTEGER NOT NULL,
	quote VARCHAR NOT NULL,
	question VARCHAR NOT NULL,
	phrasings JSON NOT NULL,
	answer VARCHAR NOT NULL,
	relevance DOUBLE NOT NULL,
	edited BOOLEAN NOT NULL,
	state VARCHAR(20) NOT NULL,
	approved_id VARCHAR,
	decided_by VARCHAR NOT NULL,
	created_at DATETIME NOT NULL,
	changed_at DATETIME NOT NULL,
	CONSTRAINT pk_proposals PRIMARY KEY (id),
	CONSTRAINT fk_proposals_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_proposals_kb_id FOREIGN KEY(kb_id) REFERENCES kbs (id) ON DELETE CASCADE,
	CONSTRAINT fk_proposals_document_id FOREIGN KEY(document_id) REFERENCES documents (id) ON DELETE CASCADE,
	CONSTRAINT uq_proposals_document_id_question UNIQUE (document_id, question)
);
CREATE TABLE proposed_documents (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	kb_id VARCHAR NOT NULL,
	name VARCHAR NOT NULL,
	text VARCHAR NOT NULL,
	reason VARCHAR NOT NULL,
	replaces VARCHAR,
	state VARCHAR NOT NULL,
	proposed_by VARCHAR NOT NULL,
	decided_by VARCHAR NOT NULL,
	note VARCHAR NOT NULL,
	document_id VARCHAR,
	created_at DATETIME NOT NULL,
	decided_at DATETIME,
	CONSTRAINT pk_proposed_documents PRIMARY KEY (id),
	CONSTRAINT fk_proposed_documents_kb_id_kbs FOREIGN KEY(kb_id) REFERENCES kbs (id) ON DELETE CASCADE,
	CONSTRAINT fk_proposed_documents_team_id_teams FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE
);
CREATE TABLE question_sets (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	slug VARCHAR NOT NULL,
	name VARCHAR NOT NULL,
	about VARCHAR NOT NULL,
	created_at DATETIME NOT NULL,
	changed_at DATETIME NOT NULL,
	desk_id VARCHAR,
	schedule VARCHAR(20) NOT NULL,
	version INTEGER NOT NULL,
	CONSTRAINT pk_question_sets PRIMARY KEY (id),
	CONSTRAINT fk_question_sets_desk_id FOREIGN KEY(desk_id) REFERENCES desks (id) ON DELETE SET NULL,
	CONSTRAINT fk_question_sets_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT uq_question_sets_team_id_slug UNIQUE (team_id, slug)
);
CREATE TABLE receivers (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	url VARCHAR NOT NULL,
	secret BLOB NOT NULL,
	kinds JSON NOT NULL,
	paused BOOLEAN NOT NULL,
	created_at DATETIME NOT NULL,
	CONSTRAINT pk_receivers PRIMARY KEY (id),
	CONSTRAINT fk_receivers_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE
);
CREATE TABLE revision_pictures (
	revision_id VARCHAR NOT NULL,
	number INTEGER NOT NULL,
	team_id VARCHAR NOT NULL,
	kb_id VARCHAR NOT NULL,
	sha256 VARCHAR NOT NULL,
	width INTEGER NOT NULL,
	height INTEGER NOT NULL,
	CONSTRAINT pk_revision_pictures PRIMARY KEY (revision_id, number),
	CONSTRAINT fk_revision_pictures_revision_id_revisions FOREIGN KEY(revision_id) REFERENCES revisions (id) ON DELETE CASCADE,
	CONSTRAINT fk_revision_pictures_team_id_teams FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_revision_pictures_kb_id_kbs FOREIGN KEY(kb_id) REFERENCES kbs (id) ON DELETE CASCADE
);
CREATE TABLE revisions (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	document_key INTEGER NOT NULL,
	number INTEGER NOT NULL,
	sha256 VARCHAR NOT NULL,
	size INTEGER NOT NULL,
	media_type VARCHAR,
	reading VARCHAR,
	pages INTEGER,
	passages INTEGER,
	tokens INTEGER,
	language VARCHAR,
	warnings JSON NOT NULL,
	seconds JSON NOT NULL,
	created_at DATETIME NOT NULL,
	indexed_at DATETIME, report JSON, columns JSON, embedded INTEGER DEFAULT '0' NOT NULL, source_changed_at DATETIME, answerable_at DATETIME, opening_dates JSON, duration DOUBLE, pictures INTEGER, viewed_by VARCHAR, original_deleted_at DATETIME,
	CONSTRAINT pk_revisions PRIMARY KEY (id),
	CONSTRAINT fk_revisions_document_key FOREIGN KEY(document_key) REFERENCES documents ("key") ON DELETE CASCADE,
	CONSTRAINT fk_revisions_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT uq_revisions_document_key_number UNIQUE (document_key, number)
);
CREATE TABLE segments (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	edition_id VARCHAR NOT NULL,
	kind VARCHAR NOT NULL,
	passages INTEGER NOT NULL,
	CONSTRAINT pk_segments PRIMARY KEY (id),
	CONSTRAINT fk_segments_edition_id FOREIGN KEY(edition_id) REFERENCES editions (id) ON DELETE CASCADE,
	CONSTRAINT fk_segments_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE
);
CREATE TABLE set_questions (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	set_id VARCHAR NOT NULL,
	question VARCHAR NOT NULL,
	kind VARCHAR NOT NULL,
	note VARCHAR NOT NULL,
	origin VARCHAR NOT NULL,
	history JSON NOT NULL,
	documents JSON NOT NULL,
	quotes JSON NOT NULL,
	contains JSON NOT NULL,
	changed_at DATETIME NOT NULL,
	number INTEGER NOT NULL,
	must_decline BOOLEAN NOT NULL,
	CONSTRAINT pk_set_questions PRIMARY KEY (id),
	CONSTRAINT fk_set_questions_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_set_questions_set_id FOREIGN KEY(set_id) REFERENCES question_sets (id) ON DELETE CASCADE
);
CREATE TABLE sign_ins (
	token_hash VARCHAR NOT NULL,
	person_id VARCHAR NOT NULL,
	created_at DATETIME NOT NULL,
	expires_at DATETIME NOT NULL, id VARCHAR DEFAULT '' NOT NULL, address VARCHAR DEFAULT '' NOT NULL, agent VARCHAR DEFAULT '' NOT NULL, provider_session VARCHAR,
	CONSTRAINT pk_sign_ins PRIMARY KEY (token_hash),
	CONSTRAINT fk_sign_ins_person_id FOREIGN KEY(person_id) REFERENCES people (id) ON DELETE CASCADE
);
CREATE TABLE source_items (
	"key" INTEGER NOT NULL,
	team_id VARCHAR NOT NULL,
	source_id VARCHAR NOT NULL,
	item_id VARCHAR NOT NULL,
	document_key INTEGER,
	mark VARCHAR NOT NULL,
	same_as VARCHAR NOT NULL,
	notes JSON,
	error VARCHAR,
	CONSTRAINT pk_source_items PRIMARY KEY ("key"),
	CONSTRAINT fk_source_items_document_key FOREIGN KEY(document_key) REFERENCES documents ("key") ON DELETE SET NULL,
	CONSTRAINT fk_source_items_source_id FOREIGN KEY(source_id) REFERENCES sources (id) ON DELETE CASCADE,
	CONSTRAINT fk_source_items_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT uq_source_items_source_id_item_id UNIQUE (source_id, item_id)
);
CREATE TABLE sources (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	kb_id VARCHAR NOT NULL,
	name VARCHAR NOT NULL,
	kind VARCHAR NOT NULL,
	folder VARCHAR NOT NULL,
	settings JSON NOT NULL,
	credentials BLOB,
	credential_names JSON NOT NULL,
	tag_rules JSON NOT NULL,
	every_minutes INTEGER,
	cron VARCHAR,
	target_minutes INTEGER NOT NULL,
	guard_share DOUBLE NOT NULL,
	guard_min INTEGER NOT NULL,
	paused BOOLEAN NOT NULL,
	signal_secret BLOB NOT NULL,
	next_run_at DATETIME,
	last_listed_at DATETIME,
	failing_since DATETIME,
	failures INTEGER NOT NULL,
	error VARCHAR,
	late_since DATETIME,
	created_at DATETIME NOT NULL,
	changed_at DATETIME NOT NULL,
	version INTEGER NOT NULL,
	CONSTRAINT pk_sources PRIMARY KEY (id),
	CONSTRAINT fk_sources_kb_id FOREIGN KEY(kb_id) REFERENCES kbs (id) ON DELETE CASCADE,
	CONSTRAINT fk_sources_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT uq_sources_kb_id_folder UNIQUE (kb_id, folder)
);
CREATE TABLE sync_items (
	"key" INTEGER NOT NULL,
	team_id VARCHAR NOT NULL,
	sync_id VARCHAR NOT NULL,
	item_id VARCHAR NOT NULL,
	outcome VARCHAR(20) NOT NULL,
	reason VARCHAR,
	document_key INTEGER,
	revision_id VARCHAR,
	bytes INTEGER NOT NULL,
	CONSTRAINT pk_sync_items PRIMARY KEY ("key"),
	CONSTRAINT fk_sync_items_sync_id FOREIGN KEY(sync_id) REFERENCES syncs (id) ON DELETE CASCADE,
	CONSTRAINT fk_sync_items_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT uq_sync_items_sync_id_item_id UNIQUE (sync_id, item_id)
);
CREATE TABLE syncs (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	kb_id VARCHAR NOT NULL,
	source_id VARCHAR NOT NULL,
	cause VARCHAR NOT NULL,
	state VARCHAR(20) NOT NULL,
	stage VARCHAR NOT NULL,
	confirmed BOOLEAN NOT NULL,
	held_reason VARCHAR,
	error VARCHAR,
	seen INTEGER NOT NULL,
	expected INTEGER NOT NULL,
	unchanged INTEGER NOT NULL,
	added INTEGER NOT NULL,
	changed INTEGER NOT NULL,
	moved INTEGER NOT NULL,
	removed INTEGER NOT NULL,
	skipped INTEGER NOT NULL,
	failed INTEGER NOT NULL,
	bytes INTEGER NOT NULL,
	skip_reasons JSON NOT NULL,
	seconds JSON NOT NULL,
	created_at DATETIME NOT NULL,
	started_at DATETIME,
	finished_at DATETIME,
	CONSTRAINT pk_syncs PRIMARY KEY (id),
	CONSTRAINT fk_syncs_kb_id FOREIGN KEY(kb_id) REFERENCES kbs (id) ON DELETE CASCADE,
	CONSTRAINT fk_syncs_source_id FOREIGN KEY(source_id) REFERENCES sources (id) ON DELETE CASCADE,
	CONSTRAINT fk_syncs_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE
);
CREATE TABLE team_counts (
	team_id VARCHAR NOT NULL,
	documents INTEGER NOT NULL,
	bytes INTEGER NOT NULL,
	CONSTRAINT pk_team_counts PRIMARY KEY (team_id),
	CONSTRAINT fk_team_counts_team_id_teams FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE
);
CREATE TABLE teams (
	id VARCHAR NOT NULL,
	slug VARCHAR NOT NULL,
	name VARCHAR NOT NULL,
	created_at DATETIME NOT NULL,
	version INTEGER NOT NULL, time_zone VARCHAR DEFAULT 'UTC' NOT NULL, kept_days INTEGER, monthly_tokens INTEGER, source_folders JSON, source_networks JSON, show_askers BOOLEAN DEFAULT '0' NOT NULL, quotas JSON DEFAULT '{}' NOT NULL, quota_states JSON DEFAULT '{}' NOT NULL, records_kept_days INTEGER, originals_kept_days INTEGER,
	CONSTRAINT pk_teams PRIMARY KEY (id),
	CONSTRAINT uq_teams_slug UNIQUE (slug)
);
CREATE TABLE tombstones (
	edition_id VARCHAR NOT NULL,
	passage_id INTEGER NOT NULL,
	team_id VARCHAR NOT NULL,
	CONSTRAINT pk_tombstones PRIMARY KEY (edition_id, passage_id),
	CONSTRAINT fk_tombstones_edition_id FOREIGN KEY(edition_id) REFERENCES editions (id) ON DELETE CASCADE,
	CONSTRAINT fk_tombstones_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE
);
CREATE TABLE transcribers (
	id VARCHAR NOT NULL,
	name VARCHAR NOT NULL,
	url VARCHAR NOT NULL,
	remote VARCHAR NOT NULL,
	secret BLOB,
	price DOUBLE NOT NULL,
	part_seconds DOUBLE NOT NULL,
	currency VARCHAR NOT NULL,
	team_ids JSON,
	seconds DOUBLE NOT NULL,
	tries INTEGER NOT NULL,
	enabled BOOLEAN NOT NULL,
	error VARCHAR,
	checked_at DATETIME,
	created_at DATETIME NOT NULL,
	changed_at DATETIME NOT NULL,
	version INTEGER NOT NULL,
	CONSTRAINT pk_transcribers PRIMARY KEY (id),
	CONSTRAINT uq_transcribers_name UNIQUE (name)
);
CREATE TABLE transcript_parts (
	"key" INTEGER NOT NULL,
	team_id VARCHAR NOT NULL,
	sha256 VARCHAR NOT NULL,
	transcriber VARCHAR NOT NULL,
	spoken VARCHAR NOT NULL,
	start DOUBLE NOT NULL,
	"end" DOUBLE NOT NULL,
	last BOOLEAN NOT NULL,
	cues JSON NOT NULL,
	at DATETIME NOT NULL,
	CONSTRAINT pk_transcript_parts PRIMARY KEY ("key"),
	CONSTRAINT fk_transcript_parts_team_id_teams FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE
);
CREATE TABLE trial_results (
	"key" INTEGER NOT NULL,
	team_id VARCHAR NOT NULL,
	trial_id VARCHAR NOT NULL,
	question_id VARCHAR NOT NULL,
	result VARCHAR NOT NULL,
	reason VARCHAR NOT NULL,
	outcome VARCHAR NOT NULL,
	text VARCHAR NOT NULL,
	composer VARCHAR NOT NULL,
	content JSON NOT NULL,
	citations JSON NOT NULL,
	number INTEGER NOT NULL,
	cited BOOLEAN,
	sufficiency DOUBLE NOT NULL,
	doubtful INTEGER NOT NULL,
	tokens INTEGER NOT NULL,
	cost DOUBLE NOT NULL,
	seconds DOUBLE NOT NULL,
	turn_id VARCHAR,
	asked_at DATETIME,
	CONSTRAINT pk_trial_results PRIMARY KEY ("key"),
	CONSTRAINT fk_trial_results_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_trial_results_trial_id FOREIGN KEY(trial_id) REFERENCES trials (id) ON DELETE CASCADE,
	CONSTRAINT uq_trial_results_trial_id_question_id UNIQUE (trial_id, question_id)
);
CREATE TABLE trials (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	set_id VARCHAR NOT NULL,
	label VARCHAR NOT NULL,
	note VARCHAR NOT NULL,
	author VARCHAR NOT NULL,
	settings JSON NOT NULL,
	editions JSON NOT NULL,
	created_at DATETIME NOT NULL,
	set_version INTEGER NOT NULL,
	desk_id VARCHAR,
	desk_version INTEGER,
	asked_kb VARCHAR,
	state VARCHAR(20) NOT NULL,
	max_tokens INTEGER,
	pair_id VARCHAR,
	scheduled BOOLEAN NOT NULL,
	started_at DATETIME,
	finished_at DATETIME,
	CONSTRAINT pk_trials PRIMARY KEY (id),
	CONSTRAINT fk_trials_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_trials_set_id FOREIGN KEY(set_id) REFERENCES question_sets (id) ON DELETE CASCADE,
	CONSTRAINT fk_trials_desk_id FOREIGN KEY(desk_id) REFERENCES desks (id) ON DELETE CASCADE,
	CONSTRAINT fk_trials_asked_kb FOREIGN KEY(asked_kb) REFERENCES kbs (id) ON DELETE CASCADE
);
CREATE TABLE turns (
	id VARCHAR NOT NULL,
	team_id VARCHAR NOT NULL,
	conversation_id VARCHAR NOT NULL,
	number INTEGER NOT NULL,
	question VARCHAR NOT NULL,
	standalone VARCHAR NOT NULL,
	outcome VARCHAR NOT NULL,
	text VARCHAR NOT NULL,
	sufficiency DOUBLE NOT NULL,
	citations JSON NOT NULL,
	evidence JSON NOT NULL,
	edition_id VARCHAR NOT NULL,
	composer VARCHAR NOT NULL,
	seconds JSON NOT NULL,
	request_id VARCHAR NOT NULL,
	created_at DATETIME NOT NULL, state VARCHAR(20) DEFAULT 'done' NOT NULL, desk_id VARCHAR, desk_version INTEGER, asker VARCHAR DEFAULT '' NOT NULL, asked_key VARCHAR, note VARCHAR DEFAULT '' NOT NULL, settings JSON, editions JSON, steps JSON, statements JSON, prompt JSON, raw VARCHAR DEFAULT '' NOT NULL, tokens_read INTEGER DEFAULT '0' NOT NULL, tokens_written INTEGER DEFAULT '0' NOT NULL, cost DOUBLE DEFAULT '0' NOT NULL, asked_hash VARCHAR DEFAULT '' NOT NULL, approved JSON, choices JSON, record_deleted_at DATETIME,
	CONSTRAINT pk_turns PRIMARY KEY (id),
	CONSTRAINT fk_turns_conversation_id FOREIGN KEY(conversation_id) REFERENCES conversations (id) ON DELETE CASCADE,
	CONSTRAINT fk_turns_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT uq_turns_conversation_id_number UNIQUE (conversation_id, number)
);
CREATE TABLE uses (
	"key" INTEGER NOT NULL,
	team_id VARCHAR NOT NULL,
	turn_id VARCHAR NOT NULL,
	desk_id VARCHAR,
	kb_ids JSON NOT NULL,
	asker VARCHAR NOT NULL,
	outcome VARCHAR NOT NULL,
	composer VARCHAR NOT NULL,
	tokens_read INTEGER NOT NULL,
	tokens_written INTEGER NOT NULL,
	cost DOUBLE NOT NULL,
	first_seconds DOUBLE,
	seconds DOUBLE NOT NULL,
	helpful BOOLEAN,
	at DATETIME NOT NULL, model VARCHAR, kb_id VARCHAR, link_id VARCHAR, source_id VARCHAR, sync_id VARCHAR, edition_id VARCHAR, recorded_seconds DOUBLE DEFAULT '0.0' NOT NULL,
	CONSTRAINT pk_uses PRIMARY KEY ("key"),
	CONSTRAINT fk_uses_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT uq_uses_turn_id UNIQUE (turn_id)
);
CREATE TABLE validities (
	document_key INTEGER NOT NULL,
	team_id VARCHAR NOT NULL,
	kb_id VARCHAR NOT NULL,
	statements JSON NOT NULL,
	in_force_from DATE,
	in_force_until DATE,
	withdrawn BOOLEAN NOT NULL,
	mark VARCHAR(20),
	replaced_by_key INTEGER,
	marked_by VARCHAR NOT NULL,
	marked_at DATETIME,
	CONSTRAINT pk_validities PRIMARY KEY (document_key),
	CONSTRAINT fk_validities_team_id FOREIGN KEY(team_id) REFERENCES teams (id) ON DELETE CASCADE,
	CONSTRAINT fk_validities_kb_id FOREIGN KEY(kb_id) REFERENCES kbs (id) ON DELETE CASCADE,
	CONSTRAINT fk_validities_document_key FOREIGN KEY(document_key) REFERENCES documents ("key") ON DELETE CASCADE,
	CONSTRAINT fk_validities_replaced_by_key FOREIGN KEY(replaced_by_key) REFERENCES documents ("key") ON DELETE SET NULL
);
CREATE INDEX ix_idempotent_replies_created_at ON idempotent_replies (created_at);
CREATE INDEX ix_kbs_team_id ON kbs (team_id);
CREATE INDEX ix_keys_team_id ON keys (team_id);
CREATE INDEX ix_members_person_id ON members (person_id);
CREATE INDEX ix_members_team_id ON members (team_id);
CREATE INDEX ix_sign_ins_person_id ON sign_ins (person_id);
CREATE INDEX ix_documents_team_id ON documents (team_id);
CREATE INDEX ix_editions_kb_id ON editions (kb_id);
CREATE INDEX ix_editions_team_id ON editions (team_id);
CREATE INDEX ix_document_tags_lookup ON document_tags (kb_id, tag, value);
CREATE INDEX ix_document_tags_team_id ON document_tags (team_id);
CREATE INDEX ix_revisions_document_key ON revisions (document_key);
CREATE INDEX ix_revisions_reading ON revisions (reading);
CREATE INDEX ix_revisions_sha256 ON revisions (sha256);
CREATE INDEX ix_revisions_team_id ON revisions (team_id);
CREATE INDEX ix_segments_edition_id ON segments (edition_id);
CREATE INDEX ix_segments_team_id ON segments (team_id);
CREATE INDEX ix_tombstones_team_id ON tombstones (team_id);
CREATE INDEX ix_turns_team_id ON turns (team_id);
CREATE INDEX ix_jobs_document_key ON jobs (document_key);
CREATE INDEX ix_jobs_kb_id ON jobs (kb_id);
CREATE INDEX ix_jobs_team_id ON jobs (team_id);
CREATE INDEX ix_jobs_waiting ON jobs (state, stage, run_after);
CREATE INDEX ix_passages_edition_id ON passages (edition_id);
CREATE INDEX ix_passages_team_id ON passages (team_id);
CREATE INDEX ix_documents_parent_key ON documents (parent_key);
CREATE INDEX ix_jobs_edition_id ON jobs (edition_id);
CREATE INDEX ix_receivers_team_id ON receivers (team_id);
CREATE INDEX ix_sources_kb_id ON sources (kb_id);
CREATE INDEX ix_sources_next_run_at ON sources (next_run_at);
CREATE INDEX ix_sources_team_id ON sources (team_id);
CREATE INDEX ix_source_items_document_key ON source_items (document_key);
CREATE INDEX ix_source_items_team_id ON source_items (team_id);
CREATE INDEX ix_syncs_kb_id ON syncs (kb_id);
CREATE INDEX ix_syncs_source ON syncs (source_id, created_at);
CREATE INDEX ix_syncs_state ON syncs (state);
CREATE INDEX ix_syncs_team_id ON syncs (team_id);
CREATE INDEX ix_deliveries_notice_id ON deliveries (notice_id);
CREATE INDEX ix_deliveries_receiver_id ON deliveries (receiver_id);
CREATE INDEX ix_deliveries_team_id ON deliveries (team_id);
CREATE INDEX ix_sync_items_team_id ON sync_items (team_id);
CREATE INDEX ix_documents_source_id ON documents (source_id);
CREATE INDEX ix_desks_team_id ON desks (team_id);
CREATE INDEX ix_uses_team_id ON uses (team_id);
CREATE INDEX ix_desk_links_desk_id ON desk_links (desk_id);
CREATE INDEX ix_desk_links_team_id ON desk_links (team_id);
CREATE INDEX ix_desk_versions_team_id ON desk_versions (team_id);
CREATE INDEX ix_feedback_desk_id ON feedback (desk_id);
CREATE INDEX ix_feedback_team_id ON feedback (team_id);
CREATE INDEX ix_conversations_asker ON conversations (asker);
CREATE INDEX ix_conversations_team_id ON conversations (team_id);
CREATE INDEX ix_conversations_kb_id ON conversations (kb_id);
CREATE INDEX ix_conversations_changed_at ON conversations (changed_at);
CREATE INDEX ix_conversations_desk_id ON conversations (desk_id);
CREATE UNIQUE INDEX ix_turns_asked ON turns (asker, asked_key);
CREATE INDEX ix_turns_desk ON turns (desk_id, created_at);
CREATE INDEX ix_turns_state ON turns (state);
CREATE INDEX ix_notices_created_at ON notices (created_at);
CREATE INDEX ix_notices_kb_id ON notices (kb_id);
CREATE INDEX ix_notices_team_id ON notices (team_id);
CREATE INDEX ix_notices_source_id ON notices (source_id);
CREATE INDEX ix_descriptions_kb_id ON descriptions (kb_id);
CREATE INDEX ix_descriptions_team_id ON descriptions (team_id);
CREATE INDEX ix_documents_changed ON documents (kb_id, changed_at);
CREATE INDEX ix_documents_state ON documents (kb_id, state);
CREATE INDEX ix_invitations_team_id ON invitations (team_id);
CREATE INDEX ix_password_links_person_id ON password_links (person_id);
CREATE INDEX ix_documents_change ON documents (kb_id, change);
CREATE INDEX ix_validities_team_id ON validities (team_id);
CREATE INDEX ix_validities_kb_id ON validities (kb_id);
CREATE INDEX ix_validities_replaced_by_key ON validities (replaced_by_key);
CREATE INDEX ix_document_references_team_id ON document_references (team_id);
CREATE INDEX ix_document_references_document_key ON document_references (document_key);
CREATE INDEX ix_document_references_target_key ON document_references (target_key);
CREATE INDEX ix_document_references_lookup ON document_references (kb_id, lookup, named_on);
CREATE INDEX ix_document_names_team_id ON document_names (team_id);
CREATE INDEX ix_document_names_lookup ON document_names (kb_id, lookup);
CREATE INDEX ix_page_edges_team_id ON page_edges (team_id);
CREATE INDEX ix_page_edges_collection ON page_edges (kb_id, collection);
CREATE INDEX ix_approved_answers_team_id ON approved_answers (team_id);
CREATE INDEX ix_approved_answers_kb_id ON approved_answers (kb_id, state, changed_at);
CREATE INDEX ix_approved_versions_team_id ON approved_versions (team_id);
CREATE INDEX ix_approved_flags_team_id ON approved_flags (team_id);
CREATE INDEX ix_approved_flags_kb_id ON approved_flags (kb_id, state);
CREATE INDEX ix_question_sets_team_id ON question_sets (team_id);
CREATE INDEX ix_set_questions_team_id ON set_questions (team_id);
CREATE INDEX ix_set_questions_set_id ON set_questions (set_id, number);
CREATE INDEX ix_trials_team_id ON trials (team_id);
CREATE INDEX ix_trials_set_id ON trials (set_id, created_at);
CREATE INDEX ix_trials_state ON trials (state);
CREATE INDEX ix_trial_results_team_id ON trial_results (team_id);
CREATE INDEX ix_gaps_team_id ON gaps (team_id, state);
CREATE INDEX ix_gap_questions_team_id ON gap_questions (team_id);
CREATE INDEX ix_gap_questions_gap_id ON gap_questions (gap_id);
CREATE INDEX ix_passage_uses_team_id ON passage_uses (team_id);
CREATE INDEX ix_passage_uses_document ON passage_uses (kb_id, document_id);
CREATE INDEX ix_proposals_team_id ON proposals (team_id);
CREATE INDEX ix_proposals_kb_id ON proposals (kb_id, state);
CREATE INDEX ix_proposal_runs_team_id ON proposal_runs (team_id);
CREATE INDEX ix_proposal_runs_kb_id ON proposal_runs (kb_id);
CREATE INDEX ix_proposal_runs_waiting ON proposal_runs (waiting);
CREATE INDEX ix_answer_sources_turn_id ON answer_sources (turn_id);
CREATE INDEX ix_answer_sources_document ON answer_sources (kb_id, document_id, checked_id);
CREATE INDEX ix_answer_sources_change ON answer_sources (team_id, change);
CREATE INDEX ix_jobs_by_team ON jobs (state, stage, embedder, team_id);
CREATE INDEX ix_transcript_parts_team_id ON transcript_parts (team_id);
CREATE INDEX ix_transcript_parts_recording ON transcript_parts (team_id, sha256, transcriber, spoken);
CREATE INDEX ix_revision_pictures_team_id ON revision_pictures (team_id);
CREATE INDEX ix_revision_pictures_kb_id ON revision_pictures (kb_id);
CREATE INDEX ix_revision_pictures_sha256 ON revision_pictures (sha256);
CREATE INDEX ix_picture_descriptions_team_id ON picture_descriptions (team_id);
CREATE INDEX ix_uses_sync_id ON uses (sync_id);
CREATE INDEX ix_uses_edition_id ON uses (edition_id);
CREATE INDEX ix_sync_items_revision_id ON sync_items (revision_id);
CREATE INDEX ix_passages_of_document ON passages (document_key, edition_id);
CREATE INDEX ix_passages_of_revision ON passages (revision_id, edition_id);
CREATE INDEX ix_channels_team_id ON channels (team_id);
CREATE INDEX ix_channels_desk_id ON channels (desk_id);
CREATE INDEX ix_channel_messages_team_id ON channel_messages (team_id);
CREATE INDEX ix_channel_messages_received ON channel_messages (channel_id, received_at);
CREATE INDEX ix_channel_messages_thread ON channel_messages (channel_id, thread);
CREATE INDEX ix_channel_messages_sent ON channel_messages (channel_id, sent_id);
CREATE INDEX ix_channel_messages_open ON channel_messages (state, run_after) WHERE state IN ('waiting', 'answered');
CREATE INDEX ix_followed_answers_team_id ON followed_answers (team_id);
CREATE INDEX ix_followed_answers_desk_id ON followed_answers (desk_id);
CREATE INDEX ix_followed_answers_thread ON followed_answers (channel_id, thread);
CREATE INDEX ix_audit_entries_actor ON audit_entries (actor_id, "key");
CREATE INDEX ix_audit_entries_at ON audit_entries (at);
CREATE TRIGGER audit_entries_unchanged BEFORE UPDATE OF key, log, number, at, actor_kind, actor_id, action, target, changes, outcome, problem, count, request_id, who_hash, previous, hash ON audit_entries BEGIN SELECT RAISE(ABORT, 'audit entries cannot be changed'); END;
CREATE TRIGGER audit_entries_erased BEFORE UPDATE OF who, salt ON audit_entries WHEN NEW.who IS NOT NULL OR NEW.salt IS NOT NULL BEGIN SELECT RAISE(ABORT, 'audit entries cannot be changed'); END;
CREATE TRIGGER audit_entries_kept BEFORE DELETE ON audit_entries WHEN OLD.number > (SELECT trimmed FROM audit_logs WHERE audit_logs.log = OLD.log) BEGIN SELECT RAISE(ABORT, 'audit entries cannot be deleted'); END;
CREATE INDEX ix_backups_state ON backups (state);
CREATE INDEX ix_sign_ins_provider_session ON sign_ins (provider_session);
CREATE TRIGGER count_documents_added AFTER INSERT ON documents WHEN NEW.state != 'removed' BEGIN INSERT INTO team_counts (team_id, documents, bytes) VALUES (NEW.team_id, 1, 0) ON CONFLICT (team_id) DO UPDATE SET documents = documents + excluded.documents; END;
CREATE TRIGGER count_documents_deleted AFTER DELETE ON documents WHEN OLD.state != 'removed' BEGIN UPDATE team_counts SET documents = documents - 1 WHERE team_id = OLD.team_id; END;
CREATE TRIGGER count_documents_removed AFTER UPDATE OF state ON documents WHEN (OLD.state = 'removed') != (NEW.state = 'removed') BEGIN UPDATE team_counts SET documents = documents + (OLD.state = 'removed') - (NEW.state = 'removed') WHERE team_id = NEW.team_id; END;
CREATE TRIGGER count_bytes_added AFTER INSERT ON revisions WHEN true BEGIN INSERT INTO team_counts (team_id, bytes, documents) VALUES (NEW.team_id, NEW.size, 0) ON CONFLICT (team_id) DO UPDATE SET bytes = bytes + excluded.bytes; END;
CREATE TRIGGER count_passages_added AFTER INSERT ON passages WHEN true BEGIN INSERT INTO passage_counts (edition_id, passages) VALUES (NEW.edition_id, 1) ON CONFLICT (edition_id) DO UPDATE SET passages = passages + excluded.passages; END;
CREATE TRIGGER count_passages_deleted AFTER DELETE ON passages WHEN true BEGIN UPDATE passage_counts SET passages = passages - 1 WHERE edition_id = OLD.edition_id; END;
CREATE INDEX ix_uses_team_at ON uses (team_id, at, outcome, asker, tokens_read, tokens_written, cost);
CREATE INDEX ix_erasures_team_id ON erasures (team_id);
CREATE TRIGGER count_bytes_deleted AFTER DELETE ON revisions WHEN OLD.original_deleted_at IS NULL BEGIN UPDATE team_counts SET bytes = bytes - OLD.size WHERE team_id = OLD.team_id; END;
CREATE TRIGGER count_originals_deleted AFTER UPDATE OF original_deleted_at ON revisions WHEN OLD.original_deleted_at IS NULL AND NEW.original_deleted_at IS NOT NULL BEGIN UPDATE team_counts SET bytes = bytes - NEW.size WHERE team_id = NEW.team_id; END;
CREATE INDEX ix_proposed_documents_kb_id ON proposed_documents (kb_id);
CREATE INDEX ix_proposed_documents_team_id ON proposed_documents (team_id);
DELETE FROM "sqlite_sequence";
COMMIT;
