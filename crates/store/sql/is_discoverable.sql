-- Whether the viewer may see the name of a credential that they hold nothing on: it is there, and no closed
-- folder keeps it to itself.
CREATE OR REPLACE FUNCTION is_discoverable(viewer uuid, credential uuid, at timestamp with time zone)
    RETURNS boolean
    LANGUAGE sql
    STABLE
AS $$
    SELECT EXISTS (SELECT FROM credential c WHERE c.id = $2 AND c.removed_at IS NULL AND inherits_to_top(c.folder_id)
                   AND level_on_credential($1, c.id, $3) IS NULL)
$$;
