-- The credentials of this organisation whose words, or whose device's or folder's, hold a text. Row-level
-- security keeps an index on LIKE from being used, since LIKE could tell of rows that the policy
-- hides; here the organisation is named instead. It gives identifiers only: whoever asks joins
-- them to what their grants reach.
CREATE FUNCTION matching(pattern text) RETURNS SETOF uuid LANGUAGE plpgsql STABLE SECURITY DEFINER SET search_path = public ROWS 100 AS $$
BEGIN
    RETURN QUERY
        SELECT c.id FROM credential c WHERE c.organisation = scope() AND c.removed_at IS NULL AND c.search LIKE pattern
        UNION
        SELECT c.id FROM device v JOIN credential c ON c.device_id = v.id
        WHERE v.organisation = scope() AND c.removed_at IS NULL AND lower(v.name || ' ' || v.address) LIKE pattern
        UNION
        SELECT c.id FROM folder f JOIN credential c ON c.folder_id = f.id
        WHERE f.organisation = scope() AND f.removed_at IS NULL AND c.removed_at IS NULL AND lower(f.name) LIKE pattern;
END $$;
REVOKE EXECUTE ON FUNCTION matching(text) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION matching(text) TO jexlin_service;
CREATE INDEX device_search ON device USING gin (lower(name || ' ' || address) gin_trgm_ops);
CREATE INDEX folder_search ON folder USING gin (lower(name) gin_trgm_ops);
