-- A job with the names that people know.
CREATE OR REPLACE VIEW job_view WITH (security_invoker=true) AS
    SELECT j.id, j.credential_id, c.name AS credential_name, coalesce(path_of(c.folder_id), '') AS place, d.name AS device_name, d.folder_id AS device_folder_id,
           j.task, j.method, j.state, j.step, j.outcome, j.message, p.display_name AS asked_by_name, j.cause, j.queued_at, j.not_before, j.started_at,
           j.finished_at, j.attempts, j.transcript <> '' AS has_transcript,
           NOT EXISTS (SELECT FROM job l WHERE l.credential_id = j.credential_id AND l.task = j.task AND l.queued_at > j.queued_at) AS latest
    FROM job j
    JOIN credential c ON c.id = j.credential_id
    JOIN device d ON d.id = j.device_id
    LEFT JOIN person p ON p.id = j.asked_by;
GRANT SELECT ON job_view TO jexlin_service;
