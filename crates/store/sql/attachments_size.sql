-- The bytes of all attachments of the organisation together.
CREATE OR REPLACE FUNCTION attachments_size()
    RETURNS bigint
    LANGUAGE sql
    STABLE
AS $$
    SELECT coalesce(sum(size), 0)::bigint FROM attachment
$$;
