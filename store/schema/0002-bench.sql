-- The bench can be configured through the API; runs keep the findings of their preflight.
CREATE TABLE `bench_entries` (
  `kind` text,
  `name` text,
  `text` text,
  `removed` numeric,
  `by` text,
  `at` datetime,
  PRIMARY KEY (`kind`,`name`)
);
ALTER TABLE `runs` ADD COLUMN `preflight` text;
