BEGIN TRANSACTION;
CREATE TABLE alembic_version (
	version_num VARCHAR(32) NOT NULL, 
	CONSTRAINT alembic_version_pkc PRIMARY KEY (version_num)
);
INSERT INTO "alembic_version" VALUES('0003');
CREATE TABLE job (
	ticket VARCHAR(40) NOT NULL, 
	customer TEXT NOT NULL, 
	machine TEXT NOT NULL, 
	promise TEXT NOT NULL, 
	wish TEXT NOT NULL, 
	intent VARCHAR(20) NOT NULL, 
	stop VARCHAR(20) NOT NULL, 
	old_drive TEXT NOT NULL, 
	new_drive TEXT NOT NULL, 
	closed BOOLEAN NOT NULL, old_identity TEXT DEFAULT '' NOT NULL, new_identity TEXT DEFAULT '' NOT NULL, contact TEXT DEFAULT '' NOT NULL, shelf VARCHAR(20) DEFAULT '' NOT NULL, 
	PRIMARY KEY (ticket)
);
INSERT INTO "job" VALUES('T-1042','Tern Island Ferry Company','Petrel 14, ticket desk','2026-11-29 16:00','Faster, everything exactly as it was','replace','transfer','/dev/sdb','/dev/sdc',0,'','','harbour 12','');
INSERT INTO "job" VALUES('T-1041','Lantern Rock Lighthouse Museum','Quayside Kiosk, lamp room','Saturday','','replace','handover','','',1,'','','','archived');
CREATE TABLE log (
	ticket VARCHAR(40) NOT NULL, 
	number INTEGER NOT NULL, 
	at VARCHAR(40) NOT NULL, 
	who TEXT NOT NULL, 
	kind VARCHAR(40) NOT NULL, 
	text TEXT NOT NULL, 
	figures TEXT NOT NULL, 
	previous VARCHAR(64) NOT NULL, 
	hash VARCHAR(64) NOT NULL, 
	PRIMARY KEY (ticket, number), 
	FOREIGN KEY(ticket) REFERENCES job (ticket)
);
INSERT INTO "log" VALUES('T-1042',1,'2026-11-26T09:00:00+01:00','Ada','intake','Slow start: 198 s, median of 3 runs','{
  "before_s": 198,
  "runs": 3
}
','','b946372264668420d82d9103da853b63c1a518323c2ba3467b06524a42ccf65e');
INSERT INTO "log" VALUES('T-1042',2,'2026-11-26T09:30:00+01:00','Ada','survey','Survey finished: 119 GB (111 GiB) used, health sound','{
  "used_bytes": 119000000000
}
','b946372264668420d82d9103da853b63c1a518323c2ba3467b06524a42ccf65e','85e94f7398df3ada60c0528b0fbe23a4c06f5a337a90a33e536366f9c4b43bea');
INSERT INTO "log" VALUES('T-1042',3,'2026-11-26T10:00:00+01:00','Ben','transfer-start','Transfer started: 119 GB (111 GiB) to copy','{
  "verify": "full"
}
','85e94f7398df3ada60c0528b0fbe23a4c06f5a337a90a33e536366f9c4b43bea','934f7ab5fb56397d5f4b889432a43a2362ce0f90779b427068d1d01458880a13');
INSERT INTO "log" VALUES('T-1041',1,'2026-11-24T15:28:00+01:00','Ada','handover','Handed over; the old drive is with the customer','{}
','','978f64149d4c5ab3fda3530471ee23330698c86541519c2950d462bcadbf107e');
COMMIT;
