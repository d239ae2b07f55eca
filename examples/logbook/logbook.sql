PRAGMA foreign_keys=OFF;
BEGIN TRANSACTION;
CREATE TABLE entries (day TEXT PRIMARY KEY, note TEXT NOT NULL, photo TEXT);
INSERT INTO entries VALUES('2026-05-01','Fog until noon','http://logbook.old.test/photos/fog.jpg');
INSERT INTO entries VALUES('2026-05-02','Spring tide','http://logbook.old.test/photos/tide.jpg');
COMMIT;
