-- What depends on a secret's value obeys the level and the gates of a reveal; what the service's role and
-- the owner may do.
-- Whether somebody could see a credential's value at this moment: `reveal`, and no gate, or a checkout.
CREATE OR REPLACE FUNCTION sees_value(viewer uuid, credential uuid, at timestamp with time zone)
    RETURNS boolean
    LANGUAGE plpgsql
    STABLE
AS $$
BEGIN
    RETURN coalesce(level_on_credential(viewer, credential, at), 0) >= 3 AND (
        cardinality(gates_of(credential)) = 0
        OR EXISTS (SELECT FROM checkout k WHERE k.credential_id = credential AND k.person_id = viewer AND k.ended_at IS NULL AND at < k.ends_at));
END $$;
