-- A saved view of one of the console's tables names its page; a search of credentials has none.
ALTER TABLE saved_search ADD COLUMN page text NOT NULL DEFAULT '';
DROP INDEX saved_search_name;
CREATE UNIQUE INDEX saved_search_name ON saved_search (person_id, page, lower(name));
