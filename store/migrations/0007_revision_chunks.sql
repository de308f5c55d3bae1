CREATE TABLE revision_chunks (
  revision_id BIGINT UNSIGNED NOT NULL,
  seq         INT UNSIGNED    NOT NULL,
  digest      BINARY(32)      NOT NULL,
  PRIMARY KEY (revision_id, seq),
  CONSTRAINT revision_chunks_revision FOREIGN KEY (revision_id) REFERENCES revisions (id) ON DELETE CASCADE,
  CONSTRAINT revision_chunks_chunk FOREIGN KEY (digest) REFERENCES chunks (digest)
)
