DO $$ BEGIN RAISE EXCEPTION 'the first migration is not taken back; restore a backup instead'; END $$;
