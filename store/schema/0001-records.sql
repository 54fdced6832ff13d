-- Accounts, nameplates, procedures, runs with their traces, marks, points and figures, and the journal.
CREATE TABLE `accounts` (
  `id` integer PRIMARY KEY AUTOINCREMENT,
  `name` text NOT NULL,
  `role` text NOT NULL,
  `hash` text,
  `created_at` datetime
);
CREATE TABLE `chunks` (
  `run_id` text,
  `first` integer,
  `count` integer,
  `t0` real,
  `t1` real,
  `data` blob,
  PRIMARY KEY (`run_id`,`first`)
);
CREATE TABLE `figures` (
  `run_id` text,
  `position` integer,
  `figure` text,
  `value` real,
  `outcome` text,
  `version` integer,
  `data` text,
  PRIMARY KEY (`run_id`,`position`)
);
CREATE TABLE `journal_entries` (
  `id` integer PRIMARY KEY AUTOINCREMENT,
  `at` datetime,
  `by` text,
  `bay` text,
  `run_id` text,
  `what` text,
  `detail` text
);
CREATE TABLE `marks` (
  `run_id` text,
  `seq` integer,
  `t` real,
  `kind` text,
  `label` text,
  PRIMARY KEY (`run_id`,`seq`)
);
CREATE TABLE `nameplates` (
  `name` text,
  `text` text,
  `by` text,
  `at` datetime,
  PRIMARY KEY (`name`)
);
CREATE TABLE `points` (
  `run_id` text,
  `seq` integer,
  `data` text,
  PRIMARY KEY (`run_id`,`seq`)
);
CREATE TABLE `pyramids` (
  `run_id` text,
  `level` integer,
  `first` integer,
  `end` integer,
  `data` blob,
  PRIMARY KEY (`run_id`,`level`,`first`)
);
CREATE TABLE `revisions` (
  `id` integer PRIMARY KEY AUTOINCREMENT,
  `name` text NOT NULL,
  `number` integer NOT NULL,
  `title` text,
  `for` text,
  `text` text,
  `hash` text,
  `by` text,
  `at` datetime,
  `why` text
);
CREATE TABLE `runs` (
  `id` text,
  `bay` text,
  `serial` text,
  `lot` text,
  `procedure` text,
  `revision` integer,
  `title` text,
  `nameplate` text,
  `operator` text,
  `started_at` datetime,
  `ended_at` datetime,
  `state` text,
  `reason` text,
  `outcome` text,
  `duration` real,
  `time_factor` real,
  `procedure_text` text,
  `nameplate_text` text,
  `parameters` text,
  `columns` text,
  `instruments` text,
  `specs` text,
  `frames` integer,
  PRIMARY KEY (`id`)
);
CREATE TABLE `tokens` (
  `hash` text,
  `account_id` integer NOT NULL,
  `kind` text,
  `expires_at` datetime,
  PRIMARY KEY (`hash`),
  CONSTRAINT `fk_tokens_account` FOREIGN KEY (`account_id`) REFERENCES `accounts`(`id`)
);
CREATE INDEX `idx_chunk_time` ON `chunks`(`run_id`,`t0`);
CREATE INDEX `idx_figures_figure` ON `figures`(`figure`);
CREATE INDEX `idx_journal_entries_at` ON `journal_entries`(`at`);
CREATE INDEX `idx_journal_entries_bay` ON `journal_entries`(`bay`);
CREATE INDEX `idx_journal_entries_run_id` ON `journal_entries`(`run_id`);
CREATE INDEX `idx_runs_bay` ON `runs`(`bay`);
CREATE INDEX `idx_runs_lot` ON `runs`(`lot`);
CREATE INDEX `idx_runs_outcome` ON `runs`(`outcome`);
CREATE INDEX `idx_runs_procedure` ON `runs`(`procedure`);
CREATE INDEX `idx_runs_serial` ON `runs`(`serial`);
CREATE INDEX `idx_runs_started_at` ON `runs`(`started_at`);
CREATE INDEX `idx_runs_state` ON `runs`(`state`);
CREATE INDEX `idx_tokens_account_id` ON `tokens`(`account_id`);
CREATE UNIQUE INDEX `idx_accounts_name` ON `accounts`(`name`);
CREATE UNIQUE INDEX `idx_revision` ON `revisions`(`name`,`number`);
