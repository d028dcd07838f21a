-- Lists and searches that stay quick in a large vault; files that arrive without holding up others.

-- Names of the extension's settings are known once it is loaded; where the migrations before this one
-- were applied another day, nothing has loaded it yet.
DO $$ BEGIN PERFORM show_limit(); END $$;

-- When something of a file was heard last that is still on its way; nothing once it is whole.
ALTER TABLE attachment ADD COLUMN heard_at timestamptz;
DROP INDEX attachment_name;
CREATE UNIQUE INDEX attachment_name ON attachment (credential_id, lower(name)) WHERE heard_at IS NULL;
CREATE INDEX attachment_arriving ON attachment (organisation, heard_at) WHERE heard_at IS NOT NULL;

-- What a filter looks up.
CREATE INDEX credential_kind ON credential (organisation, kind) WHERE removed_at IS NULL;
CREATE INDEX credential_expires ON credential (organisation) WHERE removed_at IS NULL AND fields ? 'expires';
CREATE INDEX judgement_leaked ON judgement (organisation) WHERE leaked > 0;
CREATE INDEX judgement_lacks ON judgement (organisation) WHERE cardinality(lacks) > 0;
CREATE INDEX judgement_score ON judgement (organisation, score);
CREATE INDEX judgement_made ON judgement (organisation, made_at);
CREATE INDEX upkeep_state_outcome ON upkeep_state (organisation, check_outcome) WHERE check_outcome IS NOT NULL;

DROP FUNCTION page_of_all(uuid, timestamptz, text, uuid, bigint, integer);
DROP FUNCTION matching(text);
DROP FUNCTION resembling(text);

-- What resembles a text by groups of three letters, of this organisation. Two letters that changed
-- places leave a word of five a third of its groups.
CREATE FUNCTION resembling(typed text) RETURNS SETOF uuid LANGUAGE plpgsql STABLE SECURITY DEFINER SET search_path = public
    SET pg_trgm.word_similarity_threshold = 0.3 ROWS 50 AS $$
BEGIN
    RETURN QUERY
        (SELECT c.id FROM credential c WHERE c.organisation = scope() AND c.removed_at IS NULL AND typed <% c.search
         ORDER BY word_similarity(typed, c.search) DESC, c.id LIMIT 500)
        UNION
        (SELECT c.id FROM folder f JOIN credential c ON c.folder_id = f.id
         WHERE f.organisation = scope() AND f.removed_at IS NULL AND c.removed_at IS NULL AND typed <% lower(f.name)
         ORDER BY word_similarity(typed, lower(f.name)) DESC, c.id LIMIT 500)
        UNION
        (SELECT c.id FROM device v JOIN credential c ON c.device_id = v.id
         WHERE v.organisation = scope() AND c.removed_at IS NULL AND typed <% lower(v.name || ' ' || v.address)
         ORDER BY word_similarity(typed, lower(v.name || ' ' || v.address)) DESC, c.id LIMIT 500);
END $$;
REVOKE EXECUTE ON FUNCTION resembling(text) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION resembling(text) TO jexlin_service;
