"""The tables of a ledger, as numbered steps; each step and the record of it are one transaction."""

from __future__ import annotations

__all__ = ["APPLICATION_ID", "STEPS"]

# Written into the header of the file, so that any SQLite file of another kind is recognised: "Ilvr".
APPLICATION_ID = 0x496C7672

# number → (what it changes, statements)
STEPS: dict[int, tuple[str, tuple[str, ...]]] = {
    1: (
        "problems, runs, requests, evaluations and iterations",
        (
            "CREATE TABLE schema_steps (number INTEGER PRIMARY KEY, about TEXT NOT NULL, applied TEXT NOT NULL)",
            "CREATE TABLE problems (number INTEGER PRIMARY KEY, hash TEXT NOT NULL UNIQUE, title TEXT NOT NULL,"
            " text TEXT NOT NULL)",
            "CREATE TABLE runs (number INTEGER PRIMARY KEY AUTOINCREMENT, label TEXT UNIQUE, problem INTEGER NOT NULL"
            " REFERENCES problems, file TEXT NOT NULL, method TEXT NOT NULL, settings TEXT NOT NULL,"
            " overrides TEXT NOT NULL, versions TEXT NOT NULL, created TEXT NOT NULL, state TEXT NOT NULL,"
            " process TEXT NOT NULL, outcome TEXT, seconds REAL NOT NULL DEFAULT 0, result TEXT)",
            "CREATE TABLE requests (run INTEGER NOT NULL REFERENCES runs, number INTEGER NOT NULL, hash TEXT NOT NULL,"
            " points INTEGER NOT NULL, PRIMARY KEY (run, number)) WITHOUT ROWID",
            "CREATE TABLE evaluations (run INTEGER NOT NULL REFERENCES runs, number INTEGER NOT NULL,"
            " request INTEGER NOT NULL, point BLOB NOT NULL, reply BLOB NOT NULL, derivatives BLOB, objective REAL,"
            " violation REAL, evaluations INTEGER NOT NULL, gradients INTEGER NOT NULL, seconds REAL NOT NULL,"
            " PRIMARY KEY (run, number)) WITHOUT ROWID",
            "CREATE TABLE iterations (run INTEGER NOT NULL REFERENCES runs, number INTEGER NOT NULL,"
            " path TEXT NOT NULL, evaluations INTEGER NOT NULL, gradients INTEGER NOT NULL, seconds REAL NOT NULL,"
            " objective REAL, best REAL, violation REAL, stationarity REAL, step REAL, note TEXT NOT NULL,"
            " point BLOB NOT NULL, PRIMARY KEY (run, number)) WITHOUT ROWID",
        ),
    ),
    5: (
        "calls of models, apart from evaluations",
        (
            "CREATE TABLE calls (number INTEGER PRIMARY KEY, run INTEGER NOT NULL REFERENCES runs, source TEXT NOT"
            " NULL, model TEXT NOT NULL, kind TEXT NOT NULL, digest BLOB NOT NULL, inputs BLOB NOT NULL, answer BLOB"
            " NOT NULL, status TEXT NOT NULL, trouble TEXT NOT NULL, seconds REAL NOT NULL, folder TEXT NOT NULL)",
            "CREATE INDEX calls_by_digest ON calls (digest)",
            "CREATE INDEX calls_by_run ON calls (run, digest)",
            "CREATE INDEX calls_by_source ON calls (source)",
        ),
    ),
    6: (
        "where the replay of a run may begin, in which order replies came, and stages",
        (
            "CREATE TABLE checkpoints (run INTEGER PRIMARY KEY REFERENCES runs, state BLOB NOT NULL)",
            "CREATE TABLE arrivals (run INTEGER NOT NULL REFERENCES runs, request INTEGER NOT NULL, tickets BLOB"
            " NOT NULL, PRIMARY KEY (run, request)) WITHOUT ROWID",
            "CREATE TABLE stages (run INTEGER NOT NULL REFERENCES runs, number INTEGER NOT NULL, first_request INTEGER,"
            " first_evaluation INTEGER, first_iteration INTEGER, PRIMARY KEY (run, number)) WITHOUT ROWID",
        ),
    ),
    7: (
        "approximations of what runs evaluated",
        (
            "CREATE TABLE approximations (number INTEGER PRIMARY KEY AUTOINCREMENT, label TEXT UNIQUE, runs TEXT NOT"
            " NULL, facts TEXT NOT NULL, document TEXT NOT NULL, created TEXT NOT NULL)",
        ),
    ),
    8: (
        "what surfaces said of designs before these were evaluated",
        (
            "CREATE TABLE foretold (run INTEGER NOT NULL REFERENCES runs, iteration INTEGER NOT NULL, said REAL,"
            " spread REAL, actual REAL, surface TEXT NOT NULL, PRIMARY KEY (run, iteration)) WITHOUT ROWID",
        ),
    ),
    9: (
        "seals: what an ended run says cannot change unseen",
        ("ALTER TABLE runs ADD COLUMN seal TEXT",),
    ),
    3: (
        "the designs of each generation, as numbers of evaluations",
        (
            "CREATE TABLE generations (run INTEGER NOT NULL REFERENCES runs, iteration INTEGER NOT NULL,"
            " members BLOB NOT NULL, PRIMARY KEY (run, iteration)) WITHOUT ROWID",
        ),
    ),
    4: (
        "groups of runs: their plans, and which runs are whose",
        (
            "CREATE TABLE groups (number INTEGER PRIMARY KEY AUTOINCREMENT, label TEXT UNIQUE, plan TEXT NOT NULL,"
            " created TEXT NOT NULL)",
            'CREATE TABLE group_runs ("group" INTEGER NOT NULL REFERENCES groups, place INTEGER NOT NULL,'
            ' run INTEGER NOT NULL REFERENCES runs, PRIMARY KEY ("group", place)) WITHOUT ROWID',
        ),
    ),
    2: (
        "the table files a problem reads, and hashes of its models' files",
        (
            "ALTER TABLE runs ADD COLUMN files TEXT NOT NULL DEFAULT '{}'",
            "ALTER TABLE runs ADD COLUMN models TEXT NOT NULL DEFAULT '{}'",
        ),
    ),
}
