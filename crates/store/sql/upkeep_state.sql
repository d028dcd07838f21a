-- What lists and findings ask about a credential's account.
CREATE OR REPLACE VIEW upkeep_state WITH (security_invoker=true) AS
 SELECT a.credential_id,
    a.organisation,
    a.id AS account_id,
    a.check_outcome
   FROM account a
  WHERE (a.credential_id IS NOT NULL);
GRANT SELECT ON upkeep_state TO jexlin_service;
