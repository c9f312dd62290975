CREATE TABLE patrons (card TEXT PRIMARY KEY, name TEXT NOT NULL, branch TEXT NOT NULL, blocked INTEGER NOT NULL DEFAULT 0);
INSERT INTO patrons VALUES
 ('LC4417203', 'O''Neil, Maud', 'MARL', 0),
 ('LC2090118', 'Adeyemi, Tunde', 'STOW', 0),
 ('LC8821530', 'Brandt, Ilse', 'ELMB', 1),
 ('LC1177042', 'Okafor, Ngozi', 'QUAY', 0);
CREATE TABLE loans (loan INTEGER PRIMARY KEY, card TEXT NOT NULL REFERENCES patrons (card), item TEXT NOT NULL, state TEXT NOT NULL, changed TEXT NOT NULL);
INSERT INTO loans VALUES
 (1, 'LC4417203', '31408209317', 'out', '2026-03-16T15:04:00Z'),
 (2, 'LC2090118', '31408551204', 'out', '2026-03-16T16:20:00Z'),
 (3, 'LC1177042', '31408118828', 'overdue', '2026-03-17T08:00:00Z');
CREATE TABLE hours (branch TEXT NOT NULL, weekday INTEGER NOT NULL, opens TEXT NOT NULL, closes TEXT NOT NULL, PRIMARY KEY (branch, weekday));
INSERT INTO hours SELECT b.column1, d.column1, CASE d.column1 WHEN 6 THEN '10:00' ELSE '09:00' END, CASE d.column1 WHEN 6 THEN '13:00' ELSE '19:00' END
 FROM (VALUES ('MARL'), ('STOW'), ('ELMB'), ('HART'), ('QUAY')) b, (VALUES (1), (2), (3), (4), (5), (6)) d;
CREATE TABLE titles (number TEXT PRIMARY KEY, title TEXT NOT NULL, binding TEXT NOT NULL, added TEXT NOT NULL);
INSERT INTO titles VALUES ('T-5001', 'The long quay', 'cloth', '2026-02-03');
