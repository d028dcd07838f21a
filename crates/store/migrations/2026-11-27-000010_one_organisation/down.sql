DO $$ BEGIN RAISE EXCEPTION 'migrations are not taken back; restore a backup instead'; END $$;
