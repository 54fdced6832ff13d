-- Runs keep the texts that their procedure used; figures are judged again; rehearsals are kept.
CREATE TABLE `judgements` (
  `id` integer PRIMARY KEY AUTOINCREMENT,
  `run_id` text NOT NULL,
  `by` text,
  `at` datetime,
  `why` text,
  `text` text,
  `before` text,
  `outcome` text,
  `figures` text,
  `changes` text
);
CREATE TABLE `rehearsals` (
  `key` text,
  `procedure` text,
  `at` datetime,
  `data` blob,
  PRIMARY KEY (`key`)
);
ALTER TABLE `runs` ADD COLUMN `used_texts` text;
CREATE INDEX `idx_judgements_run_id` ON `judgements`(`run_id`);
CREATE INDEX `idx_rehearsals_procedure` ON `rehearsals`(`procedure`);
