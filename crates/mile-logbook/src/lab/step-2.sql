-- Version 2: whoever watches a run is told of what is new, and need not ask again and again. Programs that know version 1 go on with it.
-- What these look at is the version that a program has to know, which stays; the version of the tables has a column of its own from here on.
ALTER TABLE hollow_mile.format ADD COLUMN tables BIGINT;

CREATE FUNCTION hollow_mile.tell_of_run() RETURNS TRIGGER LANGUAGE plpgsql SET search_path = pg_catalog AS $tell$
DECLARE told BIGINT; BEGIN
    FOR told IN SELECT DISTINCT id FROM added LOOP
        PERFORM pg_notify('hollow_mile', told::TEXT);
    END LOOP;
    RETURN NULL;
END $tell$;
CREATE FUNCTION hollow_mile.tell_of_part() RETURNS TRIGGER LANGUAGE plpgsql SET search_path = pg_catalog AS $tell$
DECLARE told BIGINT; BEGIN
    FOR told IN SELECT DISTINCT run FROM added LOOP
        PERFORM pg_notify('hollow_mile', told::TEXT);
    END LOOP;
    RETURN NULL;
END $tell$;
DO $triggers$ DECLARE kept TEXT; BEGIN
    FOREACH kept IN ARRAY ARRAY['samples', 'events', 'readings', 'lanes'] LOOP
        EXECUTE format('CREATE TRIGGER told AFTER INSERT ON hollow_mile.%I REFERENCING NEW TABLE AS added
                        FOR EACH STATEMENT EXECUTE FUNCTION hollow_mile.tell_of_part()', kept);
    END LOOP;
    FOREACH kept IN ARRAY ARRAY['INSERT', 'UPDATE'] LOOP
        EXECUTE format('CREATE TRIGGER told_of_%s AFTER %1$s ON hollow_mile.runs REFERENCING NEW TABLE AS added
                        FOR EACH STATEMENT EXECUTE FUNCTION hollow_mile.tell_of_run()', kept);
    END LOOP;
END $triggers$;

UPDATE hollow_mile.format SET tables = 2;
