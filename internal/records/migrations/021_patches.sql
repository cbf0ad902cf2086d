-- +goose Up
-- +goose StatementBegin
-- intake_set sets the value at a path of an object, and makes objects of what is above it; NULL removes the value.
CREATE FUNCTION intake_set(body jsonb, path text[], value jsonb) RETURNS jsonb LANGUAGE plpgsql IMMUTABLE AS $$
BEGIN
    IF cardinality(path) = 0 THEN
        RETURN value;
    END IF;
    IF value IS NULL THEN
        RETURN body #- path;
    END IF;
    IF body IS NULL OR jsonb_typeof(body) <> 'object' THEN
        body := '{}';
    END IF;
    FOR i IN 1 .. cardinality(path) - 1 LOOP
        IF jsonb_typeof(body #> path[1:i]) IS DISTINCT FROM 'object' THEN
            body := jsonb_set(body, path[1:i], '{}');
        END IF;
    END LOOP;
    RETURN jsonb_set(body, path, value);
END $$;
-- +goose StatementEnd

-- +goose StatementBegin
-- intake_assign gives the value at a path the version v, unless it, or what holds it, is newer. What is below the path and
-- newer stays. state has the body as b, and as s the versions of paths, which are written as JSON; that of the whole body is [].
-- A path that ends with {} has the version at which a patch made an object of what is there, whatever the object holds.
CREATE FUNCTION intake_assign(state jsonb, path text[], value jsonb, v numeric) RETURNS jsonb LANGUAGE plpgsql IMMUTABLE AS $$
DECLARE
    body jsonb := nullif(state -> 'b', 'null');
    stamps jsonb := state -> 's';
    kept record;
    fresh jsonb;
BEGIN
    FOR i IN 0 .. cardinality(path) LOOP
        IF (stamps ->> to_jsonb(coalesce(path[1:i], '{}'))::text)::numeric > v THEN
            RETURN state;
        END IF;
    END LOOP;
    fresh := intake_set(body, path, value);
    FOR kept IN
        SELECT s.key, s.value::numeric AS v, jsonb_typeof(s.key::jsonb -> -1) = 'object' AS made,
            ARRAY(SELECT jsonb_array_elements_text(CASE WHEN jsonb_typeof(s.key::jsonb -> -1) = 'object' THEN s.key::jsonb - -1 ELSE s.key::jsonb END)) AS at FROM jsonb_each_text(stamps) s
        WHERE jsonb_array_length(s.key::jsonb) > cardinality(path) ORDER BY jsonb_array_length(s.key::jsonb)
    LOOP
        IF kept.at[1:cardinality(path)] = path THEN
            IF kept.v <= v THEN
                stamps := stamps - kept.key;
            ELSIF NOT kept.made THEN
                fresh := intake_set(fresh, kept.at, body #> kept.at);
            ELSIF jsonb_typeof(fresh #> kept.at) IS DISTINCT FROM 'object' THEN
                fresh := intake_set(fresh, kept.at, '{}');
            END IF;
        END IF;
    END LOOP;
    RETURN jsonb_build_object('b', fresh, 's', stamps || jsonb_build_object(to_jsonb(path)::text, v::text));
END $$;
-- +goose StatementEnd

-- +goose StatementBegin
-- intake_object makes an object of what is at a path, if it is none and older.
CREATE FUNCTION intake_object(state jsonb, path text[], v numeric) RETURNS jsonb LANGUAGE plpgsql IMMUTABLE AS $$
DECLARE
    body jsonb := nullif(state -> 'b', 'null');
    stamp text := (to_jsonb(path) || '[{}]')::text;
BEGIN
    FOR i IN 0 .. cardinality(path) LOOP
        IF (state -> 's' ->> to_jsonb(coalesce(path[1:i], '{}'))::text)::numeric > v THEN
            RETURN state;
        END IF;
    END LOOP;
    IF jsonb_typeof(body #> path) IS DISTINCT FROM 'object' THEN
        body := intake_set(body, path, '{}');
    END IF;
    RETURN jsonb_build_object('b', body, 's', state -> 's' || jsonb_build_object(stamp, greatest(v, (state -> 's' ->> stamp)::numeric)::text));
END $$;
-- +goose StatementEnd

-- +goose StatementBegin
-- intake_patch applies a patch as RFC 7396 describes it, to what is at a path and older.
CREATE FUNCTION intake_patch(state jsonb, path text[], patch jsonb, v numeric) RETURNS jsonb LANGUAGE plpgsql IMMUTABLE AS $$
DECLARE
    name text;
    value jsonb;
BEGIN
    state := intake_object(state, path, v);
    FOR name, value IN SELECT * FROM jsonb_each(patch) LOOP
        IF jsonb_typeof(value) = 'object' THEN
            state := intake_patch(state, path || name, value, v);
        ELSE
            state := intake_assign(state, path || name, nullif(value, 'null'), v);
        END IF;
    END LOOP;
    RETURN state;
END $$;
-- +goose StatementEnd

-- +goose StatementBegin
-- intake_join joins an event with a version to a record, in whatever order events arrive: each part of the body is that of
-- the newest event that has it. stamps is NULL while the whole body has the version newest. It gives the body as b, and the
-- stamps as s, both null when there are none.
CREATE FUNCTION intake_join(body jsonb, stamps jsonb, newest numeric, given jsonb, merged boolean, v numeric) RETURNS jsonb LANGUAGE plpgsql IMMUTABLE AS $$
DECLARE
    state jsonb := jsonb_build_object('b', body, 's', coalesce(stamps, jsonb_build_object('[]', coalesce(newest, '-Infinity')::text)));
    most constant int := 200; -- stamps of one record
    cut numeric;
BEGIN
    IF merged THEN
        state := intake_patch(state, '{}', given, v);
    ELSE
        state := intake_assign(state, '{}', given, v);
    END IF;
    IF (SELECT count(*) FROM jsonb_object_keys(state -> 's')) > most THEN -- the oldest become as old as the whole
        SELECT percentile_disc(0.5) WITHIN GROUP (ORDER BY s.value::numeric) INTO cut FROM jsonb_each_text(state -> 's') s;
        state := jsonb_set(state, '{s}', jsonb_build_object('[]', cut::text) ||
            (SELECT coalesce(jsonb_object_agg(s.key, s.value), '{}') FROM jsonb_each_text(state -> 's') s WHERE s.value::numeric > cut));
    END IF;
    IF NOT merged AND state -> 's' = jsonb_build_object('[]', v::text) THEN
        state := jsonb_set(state, '{s}', 'null');
    END IF;
    RETURN state;
END $$;
-- +goose StatementEnd

-- +goose Down
DROP FUNCTION intake_object(jsonb, text[], numeric);
DROP FUNCTION intake_join(jsonb, jsonb, numeric, jsonb, boolean, numeric);
DROP FUNCTION intake_patch(jsonb, text[], jsonb, numeric);
DROP FUNCTION intake_assign(jsonb, text[], jsonb, numeric);
DROP FUNCTION intake_set(jsonb, text[], jsonb);
