-- +goose Up
-- What tells that something is not in a block is kept in the way in which it is read: which
-- letters, in parts that stand beside the same parts of other blocks, since a search needs a
-- few of them; which names, with the block alone and no longer in each index of times.
DROP INDEX segments_last;
DROP INDEX segments_first;
CREATE INDEX segments_last ON segments (last, id, first, low, records);
CREATE INDEX segments_first ON segments (first, id, last, low, records);

-- A table for each part, so that what is added comes at its end.
CREATE TABLE letters_0 (id INTEGER PRIMARY KEY REFERENCES segments ON DELETE CASCADE, bits BLOB NOT NULL) STRICT;
CREATE TABLE letters_1 (id INTEGER PRIMARY KEY REFERENCES segments ON DELETE CASCADE, bits BLOB NOT NULL) STRICT;
CREATE TABLE letters_2 (id INTEGER PRIMARY KEY REFERENCES segments ON DELETE CASCADE, bits BLOB NOT NULL) STRICT;
CREATE TABLE letters_3 (id INTEGER PRIMARY KEY REFERENCES segments ON DELETE CASCADE, bits BLOB NOT NULL) STRICT;
CREATE TABLE letters_4 (id INTEGER PRIMARY KEY REFERENCES segments ON DELETE CASCADE, bits BLOB NOT NULL) STRICT;
CREATE TABLE letters_5 (id INTEGER PRIMARY KEY REFERENCES segments ON DELETE CASCADE, bits BLOB NOT NULL) STRICT;
CREATE TABLE letters_6 (id INTEGER PRIMARY KEY REFERENCES segments ON DELETE CASCADE, bits BLOB NOT NULL) STRICT;
CREATE TABLE letters_7 (id INTEGER PRIMARY KEY REFERENCES segments ON DELETE CASCADE, bits BLOB NOT NULL) STRICT;
INSERT INTO letters_0 (id, bits) SELECT id, substr(words, 1, 1024) FROM letters WHERE length(words) = 8192 ORDER BY id;
INSERT INTO letters_1 (id, bits) SELECT id, substr(words, 1025, 1024) FROM letters WHERE length(words) = 8192 ORDER BY id;
INSERT INTO letters_2 (id, bits) SELECT id, substr(words, 2049, 1024) FROM letters WHERE length(words) = 8192 ORDER BY id;
INSERT INTO letters_3 (id, bits) SELECT id, substr(words, 3073, 1024) FROM letters WHERE length(words) = 8192 ORDER BY id;
INSERT INTO letters_4 (id, bits) SELECT id, substr(words, 4097, 1024) FROM letters WHERE length(words) = 8192 ORDER BY id;
INSERT INTO letters_5 (id, bits) SELECT id, substr(words, 5121, 1024) FROM letters WHERE length(words) = 8192 ORDER BY id;
INSERT INTO letters_6 (id, bits) SELECT id, substr(words, 6145, 1024) FROM letters WHERE length(words) = 8192 ORDER BY id;
INSERT INTO letters_7 (id, bits) SELECT id, substr(words, 7169, 1024) FROM letters WHERE length(words) = 8192 ORDER BY id;
DROP TABLE letters;
