-- Runs go on after the service was killed; runs are imported, wait in line, and are begun at a set time.
CREATE TABLE `mappings` (
  `source` text,
  `data` text,
  `by` text,
  `at` datetime,
  PRIMARY KEY (`source`)
);
CREATE TABLE `snapshots` (
  `run_id` text,
  `data` blob,
  PRIMARY KEY (`run_id`)
);
CREATE TABLE `waitings` (
  `id` integer PRIMARY KEY AUTOINCREMENT,
  `bay` text,
  `position` integer,
  `serial` text,
  `lot` text,
  `procedure` text,
  `revision` integer,
  `parameters` text,
  `by` text,
  `at` datetime,
  `not_before` datetime,
  `held` text
);
ALTER TABLE `runs` ADD COLUMN `breaks` text;
ALTER TABLE `runs` ADD COLUMN `source` text;
CREATE INDEX `idx_waitings_bay` ON `waitings`(`bay`);
