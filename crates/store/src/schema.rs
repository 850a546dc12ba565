//! The schema as numbered migrations. Released ones are never edited; new ones are added at the end.

use rusqlite_migration::{M, Migrations};

/// Marks the file as ours (`PRAGMA application_id`): "Gub1".
pub(crate) const APPLICATION_ID: i32 = 0x4775_6231;

const FIRST: &str = "
CREATE TABLE members (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    password_hash TEXT NOT NULL,
    role TEXT NOT NULL,
    created INTEGER NOT NULL
) STRICT;
CREATE TABLE credentials (
    id INTEGER PRIMARY KEY,
    kind TEXT NOT NULL CHECK (kind IN ('session', 'token')),
    hash BLOB NOT NULL UNIQUE,
    member INTEGER NOT NULL REFERENCES members (id) ON DELETE CASCADE,
    name TEXT NOT NULL,
    address TEXT NOT NULL,
    created INTEGER NOT NULL,
    expires INTEGER,
    last_used INTEGER
) STRICT;
CREATE TABLE hosts (
    name TEXT PRIMARY KEY,
    address TEXT NOT NULL,
    tls_ca TEXT,
    tls_certificate TEXT,
    tls_key_sealed BLOB,
    added INTEGER NOT NULL
) STRICT;
CREATE TABLE operations (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    request TEXT NOT NULL,
    refs TEXT NOT NULL,
    author TEXT NOT NULL,
    state TEXT NOT NULL,
    cancel_requested INTEGER NOT NULL DEFAULT 0,
    created INTEGER NOT NULL,
    ended INTEGER,
    idempotency_key TEXT,
    idempotency_hash BLOB
) STRICT;
CREATE UNIQUE INDEX operations_idempotency ON operations (author, idempotency_key)
    WHERE idempotency_key IS NOT NULL;
CREATE INDEX operations_open ON operations (state) WHERE state = 'running';
CREATE TABLE targets (
    operation INTEGER NOT NULL REFERENCES operations (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    host TEXT NOT NULL,
    container TEXT NOT NULL,
    name TEXT NOT NULL,
    step TEXT,
    state TEXT NOT NULL,
    sentence TEXT,
    began INTEGER,
    ended INTEGER,
    PRIMARY KEY (operation, position)
) STRICT, WITHOUT ROWID;
CREATE TABLE audit (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    time INTEGER NOT NULL,
    member TEXT NOT NULL,
    address TEXT NOT NULL,
    action TEXT NOT NULL,
    object TEXT NOT NULL,
    outcome TEXT NOT NULL,
    hash TEXT NOT NULL
) STRICT;
CREATE TRIGGER audit_is_append_only_update BEFORE UPDATE ON audit
    BEGIN SELECT RAISE(ABORT, 'the audit log is append-only'); END;
CREATE TRIGGER audit_is_append_only_delete BEFORE DELETE ON audit
    BEGIN SELECT RAISE(ABORT, 'the audit log is append-only'); END;
";

const SECOND: &str = "
ALTER TABLE hosts ADD COLUMN public_address TEXT;
CREATE TABLE events (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    time INTEGER NOT NULL,
    kind TEXT NOT NULL,
    host TEXT NOT NULL,
    object TEXT NOT NULL,
    name TEXT NOT NULL,
    action TEXT NOT NULL,
    member TEXT NOT NULL,
    sentence TEXT NOT NULL,
    bad INTEGER NOT NULL,
    operation INTEGER
) STRICT;
CREATE INDEX events_time ON events (time, id);
CREATE INDEX events_object ON events (host, name, time, id);
CREATE TABLE unused (
    host TEXT NOT NULL,
    kind TEXT NOT NULL,
    key TEXT NOT NULL,
    since INTEGER NOT NULL,
    PRIMARY KEY (host, kind, key)
) STRICT, WITHOUT ROWID;
CREATE TABLE keep_rules (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    scope TEXT NOT NULL,
    value TEXT NOT NULL,
    days INTEGER NOT NULL,
    bytes INTEGER NOT NULL,
    member TEXT NOT NULL,
    created INTEGER NOT NULL,
    UNIQUE (scope, value)
) STRICT;
";

const THIRD: &str = "
ALTER TABLE operations ADD COLUMN sealed BLOB;
ALTER TABLE targets ADD COLUMN object TEXT NOT NULL DEFAULT 'container';
ALTER TABLE targets ADD COLUMN at INTEGER;
ALTER TABLE targets ADD COLUMN bytes INTEGER;
ALTER TABLE unused ADD COLUMN last_user TEXT;
CREATE TABLE earlier (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    host TEXT NOT NULL,
    name TEXT NOT NULL,
    image TEXT NOT NULL,
    image_id TEXT NOT NULL,
    summary TEXT NOT NULL,
    sealed BLOB NOT NULL,
    operation INTEGER NOT NULL,
    member TEXT NOT NULL,
    created INTEGER NOT NULL
) STRICT;
CREATE INDEX earlier_of ON earlier (host, name, id);
CREATE TABLE registries (
    address TEXT PRIMARY KEY,
    account TEXT,
    secret_sealed BLOB,
    ca TEXT,
    plain_http INTEGER NOT NULL,
    member TEXT NOT NULL,
    added INTEGER NOT NULL
) STRICT;
CREATE TABLE image_checks (
    image TEXT PRIMARY KEY,
    digest TEXT,
    problem TEXT,
    checked INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
CREATE TABLE keep_notes (
    host TEXT NOT NULL,
    object TEXT NOT NULL,
    id TEXT NOT NULL,
    text TEXT NOT NULL,
    member TEXT NOT NULL,
    created INTEGER NOT NULL,
    PRIMARY KEY (host, object, id)
) STRICT, WITHOUT ROWID;
CREATE TABLE preferences (
    name TEXT PRIMARY KEY,
    value TEXT NOT NULL
) STRICT, WITHOUT ROWID;
";

const FOURTH: &str = "
CREATE TABLE uploads (
    host TEXT NOT NULL,
    container TEXT NOT NULL,
    folder TEXT NOT NULL,
    part TEXT NOT NULL,
    more TEXT NOT NULL,
    until INTEGER NOT NULL,
    PRIMARY KEY (host, container, folder, part)
) STRICT, WITHOUT ROWID;
";

const FIFTH: &str = "
CREATE INDEX events_operation ON events (operation) WHERE operation IS NOT NULL;
ALTER TABLE operations ADD COLUMN address TEXT NOT NULL DEFAULT '-';
CREATE TABLE audit_head (
    one INTEGER PRIMARY KEY CHECK (one = 1),
    entry INTEGER NOT NULL,
    hash TEXT NOT NULL,
    code BLOB NOT NULL
) STRICT;
CREATE TABLE digest_checks (
    image TEXT PRIMARY KEY,
    there INTEGER NOT NULL,
    checked INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
";

const SIXTH: &str = "
ALTER TABLE targets ADD COLUMN after TEXT;
ALTER TABLE operations ADD COLUMN decided INTEGER NOT NULL DEFAULT 0;
CREATE TABLE stack_revisions (
    host TEXT NOT NULL,
    stack TEXT NOT NULL,
    number INTEGER NOT NULL,
    sealed BLOB NOT NULL,
    operation INTEGER NOT NULL,
    member TEXT NOT NULL,
    comment TEXT,
    created INTEGER NOT NULL,
    PRIMARY KEY (host, stack, number)
) STRICT, WITHOUT ROWID;
";

const SEVENTH: &str = "
ALTER TABLE stack_revisions ADD COLUMN source_commit TEXT;
CREATE TABLE stack_sources (
    host TEXT NOT NULL,
    stack TEXT NOT NULL,
    hook TEXT NOT NULL UNIQUE,
    sealed BLOB NOT NULL,
    poll_seconds INTEGER NOT NULL,
    applies INTEGER NOT NULL,
    found TEXT,
    waiting BLOB,
    checked INTEGER,
    failed TEXT,
    PRIMARY KEY (host, stack)
) STRICT, WITHOUT ROWID;
CREATE TABLE removed_stacks (
    host TEXT NOT NULL,
    stack TEXT NOT NULL,
    PRIMARY KEY (host, stack)
) STRICT, WITHOUT ROWID;
";

const EIGHTH: &str = "
CREATE TABLE job_runs (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    host TEXT NOT NULL,
    stack TEXT NOT NULL,
    service TEXT NOT NULL,
    operation INTEGER,
    due INTEGER,
    began INTEGER NOT NULL,
    ended INTEGER NOT NULL,
    outcome TEXT NOT NULL,
    exit_code INTEGER,
    sentence TEXT,
    missed INTEGER NOT NULL,
    output TEXT NOT NULL,
    cut INTEGER NOT NULL
) STRICT;
CREATE INDEX job_runs_of ON job_runs (host, stack, service, id);
CREATE UNIQUE INDEX job_runs_operation ON job_runs (operation, host) WHERE operation IS NOT NULL;
CREATE TABLE job_marks (
    host TEXT NOT NULL,
    stack TEXT NOT NULL,
    service TEXT NOT NULL,
    schedule TEXT NOT NULL,
    considered INTEGER NOT NULL,
    PRIMARY KEY (host, stack, service)
) STRICT, WITHOUT ROWID;
";

const NINTH: &str = "
ALTER TABLE members ADD COLUMN display_name TEXT NOT NULL DEFAULT '';
ALTER TABLE members ADD COLUMN deactivated INTEGER;
CREATE TABLE roles (
    name TEXT PRIMARY KEY,
    rights TEXT NOT NULL,
    second_factor INTEGER NOT NULL DEFAULT 0
) STRICT, WITHOUT ROWID;
CREATE TABLE grants (
    member INTEGER NOT NULL REFERENCES members (id) ON DELETE CASCADE,
    role TEXT NOT NULL,
    scope TEXT NOT NULL,
    PRIMARY KEY (member, role, scope)
) STRICT, WITHOUT ROWID;
INSERT INTO grants SELECT id, 'admin', 'fleet' FROM members;
CREATE TABLE invitations (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    hash BLOB NOT NULL UNIQUE,
    name TEXT NOT NULL,
    grants TEXT NOT NULL,
    member INTEGER REFERENCES members (id) ON DELETE CASCADE,
    giver TEXT NOT NULL,
    created INTEGER NOT NULL,
    expires INTEGER NOT NULL
) STRICT;
ALTER TABLE members ADD COLUMN second_factor BLOB;
ALTER TABLE members ADD COLUMN last_step INTEGER NOT NULL DEFAULT 0;
CREATE TABLE recovery_codes (
    member INTEGER NOT NULL REFERENCES members (id) ON DELETE CASCADE,
    hash BLOB NOT NULL,
    PRIMARY KEY (member, hash)
) STRICT, WITHOUT ROWID;
CREATE TABLE freezes (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    scope TEXT NOT NULL,
    reason TEXT NOT NULL,
    member TEXT NOT NULL,
    created INTEGER NOT NULL,
    until INTEGER NOT NULL
) STRICT;
ALTER TABLE credentials ADD COLUMN bounds TEXT;
ALTER TABLE hosts ADD COLUMN in_groups TEXT NOT NULL DEFAULT '[]';
";

const TENTH: &str = "
ALTER TABLE members ADD COLUMN directory TEXT;
ALTER TABLE members ADD COLUMN subject TEXT;
ALTER TABLE members ADD COLUMN checked INTEGER NOT NULL DEFAULT 0;
ALTER TABLE members ADD COLUMN directory_secret BLOB;
ALTER TABLE members ADD COLUMN profile TEXT NOT NULL DEFAULT '{}';
CREATE UNIQUE INDEX members_of_directory ON members (directory, subject) WHERE directory IS NOT NULL;
CREATE TABLE directory_grants (
    member INTEGER NOT NULL REFERENCES members (id) ON DELETE CASCADE,
    role TEXT NOT NULL,
    scope TEXT NOT NULL,
    origin TEXT NOT NULL,
    PRIMARY KEY (member, role, scope)
) STRICT, WITHOUT ROWID;
CREATE TABLE directories (
    kind TEXT PRIMARY KEY,
    settings TEXT NOT NULL,
    sealed BLOB
) STRICT, WITHOUT ROWID;
ALTER TABLE credentials ADD COLUMN networks TEXT NOT NULL DEFAULT '[]';
ALTER TABLE credentials ADD COLUMN provider_session TEXT;
ALTER TABLE credentials ADD COLUMN sealed_id_token BLOB;
CREATE TABLE notes (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    object TEXT NOT NULL,
    text TEXT NOT NULL,
    pinned INTEGER NOT NULL,
    author TEXT NOT NULL,
    created INTEGER NOT NULL,
    edited INTEGER
) STRICT;
CREATE INDEX notes_on ON notes (object);
CREATE TABLE mentions (
    note INTEGER NOT NULL REFERENCES notes (id) ON DELETE CASCADE,
    member TEXT NOT NULL COLLATE NOCASE,
    seen INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (note, member)
) STRICT, WITHOUT ROWID;
";

const ELEVENTH: &str = "
ALTER TABLE audit ADD COLUMN via TEXT NOT NULL DEFAULT '';
ALTER TABLE members ADD COLUMN works_as TEXT;
ALTER TABLE credentials ADD COLUMN stepped_until INTEGER NOT NULL DEFAULT 0;
ALTER TABLE credentials ADD COLUMN view_as TEXT;
ALTER TABLE stack_sources ADD COLUMN member TEXT NOT NULL DEFAULT '';
CREATE TABLE approvals (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    member TEXT NOT NULL COLLATE NOCASE,
    danger TEXT NOT NULL,
    object TEXT NOT NULL,
    detail TEXT NOT NULL,
    hash BLOB NOT NULL,
    created INTEGER NOT NULL,
    expires INTEGER NOT NULL,
    decided INTEGER,
    decided_by TEXT NOT NULL DEFAULT '',
    approved INTEGER NOT NULL DEFAULT 0,
    used INTEGER
) STRICT;
CREATE TABLE syslog (
    one INTEGER PRIMARY KEY CHECK (one = 1),
    settings TEXT NOT NULL,
    sent INTEGER NOT NULL
) STRICT;
";

const TWELFTH: &str = "
CREATE TABLE snoozes (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    object TEXT NOT NULL,
    code TEXT NOT NULL,
    reason TEXT NOT NULL,
    member TEXT NOT NULL,
    created INTEGER NOT NULL,
    until INTEGER NOT NULL,
    UNIQUE (object, code)
) STRICT;
";

/// The setting of a host is named by what it is for.
const THIRTEENTH: &str = "
ALTER TABLE hosts RENAME COLUMN public_address TO ports_address;
";

/// How many migrations there are: the newest schema that we know.
pub(crate) const NEWEST: i64 = 13;
/// The schema from which on the audit log has an anchor.
pub(crate) const ANCHORED: i64 = 5;

pub(crate) fn migrations() -> Migrations<'static> {
    Migrations::new(vec![
        M::up(FIRST),
        M::up(SECOND),
        M::up(THIRD),
        M::up(FOURTH),
        M::up(FIFTH),
        M::up(SIXTH),
        M::up(SEVENTH),
        M::up(EIGHTH),
        M::up(NINTH),
        M::up(TENTH),
        M::up(ELEVENTH),
        M::up(TWELFTH),
        M::up(THIRTEENTH),
    ])
}
