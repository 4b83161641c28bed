"""What the register asks its database, in SQL that every engine takes. Tables: `core.job.tables`."""

from __future__ import annotations

#: The migration (core.job.migrations) that made the tables which are asked here.
REVISION = "0004"
HELD = """
SELECT ticket, customer, old_drive, old_identity, new_drive, new_identity, closed, kept, kept_until
FROM job WHERE NOT closed OR kept = 'here'
"""
MEET = """
INSERT INTO drive (key, identity, mark, files, place, met_at, seen_at)
VALUES (:key, :identity, :mark, :files, :place, :at, :at)
ON CONFLICT (key) DO UPDATE SET place = :place, seen_at = :at,
  mark = CASE WHEN :mark = '' THEN drive.mark ELSE :mark END,
  files = CASE WHEN :files = '' THEN drive.files ELSE :files END
"""
BEGIN = """
INSERT INTO claim (run, drive, kind, work, ticket, who, insertion, source, source_print, process, at, wrote, ended,
  outcome)
VALUES (:run, :drive, :kind, :work, :ticket, :who, :insertion, :source, :source_print, :process, :at, :no, '', '')
"""
FILES = "SELECT identity, files FROM drive WHERE files LIKE :file"
COPIED = "SELECT drive, source, source_print, kind FROM claim WHERE outcome IN ('done', 'lost') ORDER BY at DESC"
MADE = """
SELECT claim.drive, claim.kind, claim.ticket, drive.identity, job.customer, job.closed
FROM claim JOIN drive ON drive.key = claim.drive LEFT JOIN job ON job.ticket = claim.ticket
WHERE claim.wrote ORDER BY claim.at DESC
"""
WRITES = "UPDATE claim SET wrote = :yes WHERE run = :run"
END = "UPDATE claim SET ended = :at, outcome = :outcome WHERE run = :run"
MARKS = "SELECT key, mark, files FROM drive"
WROTE = "SELECT DISTINCT ticket, drive FROM claim WHERE wrote"
TABLES = "SELECT name FROM sqlite_master WHERE type = 'table'"
VERSION = "SELECT version_num FROM alembic_version"
WRITING = """
SELECT claim.run, claim.kind, claim.ticket, claim.process, drive.identity, drive.mark, drive.files
FROM claim JOIN drive ON drive.key = claim.drive WHERE claim.ended = ''
"""
