-- The archive of a lab of Hollow Mile, version 1.
-- Run by whoever owns the database. It makes one schema and three roles, and touches nothing else.

CREATE SCHEMA hollow_mile;
SET LOCAL search_path TO hollow_mile, pg_catalog;

CREATE TABLE format (version BIGINT NOT NULL);
INSERT INTO format (version) VALUES (1);

-- Runs. A bench is a role of the server; spool and local say which run of which file of that bench it is.
CREATE TABLE runs (
    id        BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    bench     TEXT NOT NULL DEFAULT current_user,
    spool     TEXT,
    local     BIGINT,
    heard     TIMESTAMPTZ NOT NULL DEFAULT now(),   -- when its bench last told of it
    started   BIGINT NOT NULL,                      -- seconds since 1970-01-01 UTC, by the bench's clock
    course    TEXT NOT NULL,
    drive     TEXT NOT NULL,
    status    TEXT NOT NULL,
    owner     TEXT NOT NULL,
    head      TEXT NOT NULL,                        -- RunHead, JSON
    model     TEXT,
    situation TEXT,
    lanes     BIGINT,
    UNIQUE (bench, spool, local)
);
CREATE INDEX runs_started ON runs (started);
CREATE INDEX runs_model ON runs (model);
CREATE INDEX runs_course ON runs (course);
CREATE INDEX runs_underway ON runs (id) WHERE status = 'underway';

CREATE TABLE lanes (
    run      BIGINT NOT NULL REFERENCES runs ON DELETE CASCADE,
    lane     BIGINT NOT NULL,
    outcome  TEXT,
    digest   TEXT,                                  -- Digest, JSON
    model    TEXT,
    serial   TEXT,
    firmware TEXT,
    PRIMARY KEY (run, lane)
);
CREATE INDEX lanes_drive ON lanes (model, serial);
CREATE INDEX lanes_firmware ON lanes (model, firmware);

CREATE TABLE samples (
    run   BIGINT NOT NULL REFERENCES runs ON DELETE CASCADE,
    lane  BIGINT NOT NULL,
    first BIGINT NOT NULL,
    count BIGINT NOT NULL,
    data  BYTEA NOT NULL,
    PRIMARY KEY (run, lane, first)
) PARTITION BY HASH (run);
DO $parts$ BEGIN
    FOR part IN 0..15 LOOP
        EXECUTE format('CREATE TABLE hollow_mile.samples_%s PARTITION OF hollow_mile.samples
                        FOR VALUES WITH (MODULUS 16, REMAINDER %s)', part, part);
    END LOOP;
END $parts$;

CREATE TABLE events (
    run   BIGINT NOT NULL REFERENCES runs ON DELETE CASCADE,
    lane  BIGINT NOT NULL,
    seq   BIGINT NOT NULL,
    event TEXT NOT NULL,
    PRIMARY KEY (run, lane, seq)
);
CREATE TABLE latencies (
    run       BIGINT NOT NULL REFERENCES runs ON DELETE CASCADE,
    lane      BIGINT NOT NULL,
    leg       BIGINT NOT NULL,
    histogram BYTEA NOT NULL,
    PRIMARY KEY (run, lane, leg)
);
CREATE TABLE health (
    run  BIGINT NOT NULL REFERENCES runs ON DELETE CASCADE,
    lane BIGINT NOT NULL,
    at   BIGINT NOT NULL,
    shot TEXT NOT NULL,
    PRIMARY KEY (run, lane, at)
);
CREATE TABLE readings (
    run     BIGINT NOT NULL REFERENCES runs ON DELETE CASCADE,
    channel BIGINT NOT NULL,
    first   BIGINT NOT NULL,
    data    BYTEA NOT NULL,
    PRIMARY KEY (run, channel, first)
);
CREATE TABLE tags (
    run BIGINT NOT NULL REFERENCES runs ON DELETE CASCADE,
    tag TEXT NOT NULL,
    PRIMARY KEY (run, tag)
);
CREATE INDEX tagged ON tags (tag);
CREATE TABLE removed (
    run BIGINT PRIMARY KEY REFERENCES runs ON DELETE CASCADE,
    at  BIGINT NOT NULL
);
CREATE TABLE drives (
    id        BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    model     TEXT NOT NULL,
    serial    TEXT NOT NULL,
    simulated BIGINT NOT NULL,
    UNIQUE (model, serial, simulated)
);
CREATE TABLE snapshots (
    drive    BIGINT NOT NULL REFERENCES drives ON DELETE CASCADE,
    at       BIGINT NOT NULL,
    origin   TEXT NOT NULL,
    snapshot TEXT NOT NULL,
    bench    TEXT NOT NULL DEFAULT current_user,
    PRIMARY KEY (drive, at, origin)
);
-- What operators ask of runs that are underway. The bench answers with an event of the run.
CREATE TABLE requests (
    id      BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    run     BIGINT NOT NULL REFERENCES runs ON DELETE CASCADE,
    asked   TIMESTAMPTZ NOT NULL DEFAULT now(),
    who     TEXT NOT NULL DEFAULT current_user,
    request TEXT NOT NULL,                          -- Command, JSON
    done    TIMESTAMPTZ
);
CREATE INDEX requests_open ON requests (run) WHERE done IS NULL;

-- Roles: readers read; benches read, and write what is their own; operators read, and ask.
DO $roles$ DECLARE wanted TEXT; BEGIN
    FOREACH wanted IN ARRAY ARRAY['hollow_mile_reader', 'hollow_mile_bench', 'hollow_mile_operator'] LOOP
        IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = wanted) THEN
            EXECUTE format('CREATE ROLE %I NOLOGIN', wanted);
        END IF;
    END LOOP;
END $roles$;
GRANT hollow_mile_reader TO hollow_mile_bench, hollow_mile_operator;
GRANT USAGE ON SCHEMA hollow_mile TO hollow_mile_reader;
GRANT SELECT ON ALL TABLES IN SCHEMA hollow_mile TO hollow_mile_reader;
-- Samples and events are never changed and runs never erased: not even their bench may. The owner of the database may.
GRANT INSERT ON samples, events TO hollow_mile_bench;
GRANT INSERT, UPDATE ON latencies, health, readings, snapshots TO hollow_mile_bench;
GRANT INSERT ON drives TO hollow_mile_bench;
GRANT INSERT, UPDATE ON runs TO hollow_mile_bench;
GRANT INSERT, UPDATE, DELETE ON lanes, tags, removed TO hollow_mile_bench;
GRANT INSERT (run, request) ON requests TO hollow_mile_operator;
GRANT UPDATE (done) ON requests TO hollow_mile_bench;

CREATE FUNCTION is_own(BIGINT) RETURNS BOOLEAN LANGUAGE sql STABLE
    AS 'SELECT EXISTS (SELECT 1 FROM hollow_mile.runs WHERE id = $1 AND bench = current_user)';

ALTER TABLE runs ENABLE ROW LEVEL SECURITY;
CREATE POLICY read_all ON runs FOR SELECT TO hollow_mile_reader USING (true);
CREATE POLICY own_added ON runs FOR INSERT TO hollow_mile_bench WITH CHECK (bench = current_user);
CREATE POLICY own_changed ON runs FOR UPDATE TO hollow_mile_bench
    USING (bench = current_user) WITH CHECK (bench = current_user);
ALTER TABLE snapshots ENABLE ROW LEVEL SECURITY;
CREATE POLICY read_all ON snapshots FOR SELECT TO hollow_mile_reader USING (true);
CREATE POLICY own_added ON snapshots FOR INSERT TO hollow_mile_bench WITH CHECK (bench = current_user);
CREATE POLICY own_changed ON snapshots FOR UPDATE TO hollow_mile_bench
    USING (bench = current_user) WITH CHECK (bench = current_user);
ALTER TABLE requests ENABLE ROW LEVEL SECURITY;
CREATE POLICY read_all ON requests FOR SELECT TO hollow_mile_reader USING (true);
CREATE POLICY asked ON requests FOR INSERT TO hollow_mile_operator WITH CHECK (who = current_user);
CREATE POLICY own_done ON requests FOR UPDATE TO hollow_mile_bench USING (is_own(run)) WITH CHECK (is_own(run));
DO $policies$ DECLARE kept TEXT; BEGIN
    FOREACH kept IN ARRAY ARRAY['lanes', 'samples', 'events', 'latencies', 'health', 'readings', 'tags', 'removed'] LOOP
        EXECUTE format('ALTER TABLE hollow_mile.%I ENABLE ROW LEVEL SECURITY', kept);
        EXECUTE format('CREATE POLICY read_all ON hollow_mile.%I FOR SELECT TO hollow_mile_reader USING (true)', kept);
        EXECUTE format('CREATE POLICY own_added ON hollow_mile.%I FOR INSERT TO hollow_mile_bench WITH CHECK (hollow_mile.is_own(run))', kept);
        EXECUTE format('CREATE POLICY own_changed ON hollow_mile.%I FOR UPDATE TO hollow_mile_bench USING (hollow_mile.is_own(run)) WITH CHECK (hollow_mile.is_own(run))', kept);
        EXECUTE format('CREATE POLICY own_erased ON hollow_mile.%I FOR DELETE TO hollow_mile_bench USING (hollow_mile.is_own(run))', kept);
    END LOOP;
END $policies$;
