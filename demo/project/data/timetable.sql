-- Boats, sailings and tides of Saltmarsh Ferry, all made up. The seed of the part db: any SQL database takes it.
CREATE TABLE boats (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, seats INTEGER NOT NULL);
CREATE TABLE sailings (id INTEGER PRIMARY KEY, leaves CHAR(5) NOT NULL, origin VARCHAR(40) NOT NULL, arrives VARCHAR(40) NOT NULL, minutes INTEGER NOT NULL, boat INTEGER NOT NULL);
CREATE TABLE tides (at CHAR(5) NOT NULL, state VARCHAR(10) NOT NULL, metres DECIMAL(3,1) NOT NULL);
INSERT INTO boats VALUES
  (1, 'Curlew', 48),
  (2, 'Grey Heron', 72),
  (3, 'Little Egret', 24);
INSERT INTO sailings VALUES
  (1, '06:10', 'Saltmarsh Quay', 'Tern Island', 35, 1),
  (2, '07:25', 'Tern Island', 'Saltmarsh Quay', 35, 1),
  (3, '09:00', 'Saltmarsh Quay', 'Tern Island', 30, 2),
  (4, '10:15', 'Tern Island', 'Saltmarsh Quay', 30, 2),
  (5, '11:40', 'Saltmarsh Quay', 'Sandpiper Bank', 50, 3),
  (6, '13:05', 'Sandpiper Bank', 'Saltmarsh Quay', 50, 3),
  (7, '14:20', 'Saltmarsh Quay', 'Tern Island', 30, 2),
  (8, '15:35', 'Tern Island', 'Saltmarsh Quay', 30, 2),
  (9, '17:15', 'Saltmarsh Quay', 'Tern Island', 35, 1),
  (10, '18:30', 'Tern Island', 'Saltmarsh Quay', 35, 1),
  (11, '20:00', 'Saltmarsh Quay', 'Tern Island', 35, 2),
  (12, '21:45', 'Tern Island', 'Saltmarsh Quay', 35, 2);
INSERT INTO tides VALUES
  ('03:52', 'low', 0.9),
  ('10:07', 'high', 5.6),
  ('16:18', 'low', 1.1),
  ('22:31', 'high', 5.3);
