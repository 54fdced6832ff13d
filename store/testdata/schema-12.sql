-- A database of schema 12, as the program of that time made it, with one run.
CREATE TABLE `accounts` (`id` integer PRIMARY KEY AUTOINCREMENT,`name` text NOT NULL,`role` text NOT NULL,`hash` text,`created_at` datetime);
CREATE TABLE `bench_entries` (`kind` text,`name` text,`text` text,`removed` numeric,`by` text,`at` datetime,PRIMARY KEY (`kind`,`name`));
CREATE TABLE `chunks` (`run_id` text,`first` integer,`count` integer,`t0` real,`t1` real,`data` blob,PRIMARY KEY (`run_id`,`first`));
CREATE TABLE `figures` (`run_id` text,`position` integer,`figure` text,`value` real,`outcome` text,`version` integer,`data` text,PRIMARY KEY (`run_id`,`position`));
CREATE TABLE `journal_entries` (`id` integer PRIMARY KEY AUTOINCREMENT,`at` datetime,`by` text,`bay` text,`run_id` text,`what` text,`detail` text);
CREATE TABLE `judgements` (`id` integer PRIMARY KEY AUTOINCREMENT,`run_id` text NOT NULL,`by` text,`at` datetime,`why` text,`text` text,`before` text,`outcome` text,`figures` text,`changes` text);
CREATE TABLE `mappings` (`source` text,`data` text,`by` text,`at` datetime,PRIMARY KEY (`source`));
CREATE TABLE `marks` (`run_id` text,`seq` integer,`t` real,`kind` text,`label` text, `about` text,PRIMARY KEY (`run_id`,`seq`));
CREATE TABLE `nameplates` (`name` text,`text` text,`by` text,`at` datetime,PRIMARY KEY (`name`));
CREATE TABLE `points` (`run_id` text,`seq` integer,`data` text,PRIMARY KEY (`run_id`,`seq`));
CREATE TABLE `pyramids` (`run_id` text,`level` integer,`first` integer,`end` integer,`data` blob,PRIMARY KEY (`run_id`,`level`,`first`));
CREATE TABLE `rehearsals` (`key` text,`procedure` text,`at` datetime,`data` blob,PRIMARY KEY (`key`));
CREATE TABLE `revisions` (`id` integer PRIMARY KEY AUTOINCREMENT,`name` text NOT NULL,`number` integer NOT NULL,`title` text,`for` text,`text` text,`hash` text,`by` text,`at` datetime,`why` text);
CREATE TABLE `runs` (`id` text,`bay` text,`serial` text,`lot` text,`procedure` text,`revision` integer,`title` text,`nameplate` text,`operator` text,`started_at` datetime,`ended_at` datetime,`state` text,`reason` text,`outcome` text,`duration` real,`time_factor` real,`procedure_text` text,`nameplate_text` text,`used_texts` text,`parameters` text,`columns` text,`instruments` text,`specs` text,`frames` integer,`breaks` text,`source` text,`preflight` text,PRIMARY KEY (`id`));
CREATE TABLE schema_steps (id text PRIMARY KEY);
CREATE TABLE `snapshots` (`run_id` text,`data` blob,PRIMARY KEY (`run_id`));
CREATE TABLE `tokens` (`hash` text,`account_id` integer NOT NULL,`kind` text,`expires_at` datetime,PRIMARY KEY (`hash`),CONSTRAINT `fk_tokens_account` FOREIGN KEY (`account_id`) REFERENCES `accounts`(`id`));
CREATE TABLE `waitings` (`id` integer PRIMARY KEY AUTOINCREMENT,`bay` text,`position` integer,`serial` text,`lot` text,`procedure` text,`revision` integer,`parameters` text,`by` text,`at` datetime,`not_before` datetime,`held` text,`released` numeric,`asks` text,`vouched` text);
CREATE INDEX `idx_chunk_time` ON `chunks`(`run_id`,`t0`);
CREATE INDEX `idx_figures_figure` ON `figures`(`figure`);
CREATE INDEX `idx_journal_entries_at` ON `journal_entries`(`at`);
CREATE INDEX `idx_journal_entries_bay` ON `journal_entries`(`bay`);
CREATE INDEX `idx_journal_entries_run_id` ON `journal_entries`(`run_id`);
CREATE INDEX `idx_judgements_run_id` ON `judgements`(`run_id`);
CREATE INDEX `idx_rehearsals_procedure` ON `rehearsals`(`procedure`);
CREATE INDEX `idx_runs_bay` ON `runs`(`bay`);
CREATE INDEX `idx_runs_lot` ON `runs`(`lot`);
CREATE INDEX `idx_runs_outcome` ON `runs`(`outcome`);
CREATE INDEX `idx_runs_procedure` ON `runs`(`procedure`);
CREATE INDEX `idx_runs_serial` ON `runs`(`serial`);
CREATE INDEX `idx_runs_started_at` ON `runs`(`started_at`);
CREATE INDEX `idx_runs_state` ON `runs`(`state`);
CREATE INDEX `idx_tokens_account_id` ON `tokens`(`account_id`);
CREATE INDEX `idx_waitings_bay` ON `waitings`(`bay`);
CREATE UNIQUE INDEX `idx_accounts_name` ON `accounts`(`name`);
CREATE UNIQUE INDEX `idx_revision` ON `revisions`(`name`,`number`);
CREATE TABLE `latches` (`bay` text,`why` text,`by` text,`at` datetime,PRIMARY KEY (`bay`));
ALTER TABLE `waitings` ADD COLUMN `set_aside` numeric;
ALTER TABLE `journal_entries` ADD COLUMN `hash` text;
ALTER TABLE `accounts` ADD COLUMN `disabled` numeric;
ALTER TABLE `tokens` ADD COLUMN `issued_at` datetime;
ALTER TABLE `tokens` ADD COLUMN `label` text;
INSERT INTO accounts (name, role, hash, created_at) VALUES ('ada', 'engineer', '', '2026-03-02 08:00:00+00:00');
INSERT INTO runs (id, bay, serial, lot, procedure, revision, title, nameplate, operator, started_at, state, outcome, duration, time_factor, parameters, columns, instruments, specs, frames) VALUES ('01KJPV8Z9N5V2T7E0GQ3A4BCDE', 'bay1', 'TN-2201', 'L-2026-03', 'tern-load-steps', 1, 'Load steps', 'tern', 'ada', '2026-03-02 09:00:00+00:00', 'done', 'pass', 4.2, 1, '{}', '["load.volts"]', '[]', '', 0);
INSERT INTO marks (run_id, seq, t, kind, label) VALUES ('01KJPV8Z9N5V2T7E0GQ3A4BCDE', 0, 0, 'stage', 'power up'), ('01KJPV8Z9N5V2T7E0GQ3A4BCDE', 1, 4.2, 'stage-end', 'power up');
INSERT INTO journal_entries (at, by, bay, run_id, what, detail) VALUES ('2026-03-02 09:00:00+00:00', 'ada', 'bay1', '01KJPV8Z9N5V2T7E0GQ3A4BCDE', 'run started', '');
UPDATE marks SET about = '';
INSERT INTO waitings (bay, position, serial, procedure, parameters, by, at, held, released) VALUES ('bay1', 1, 'TN-0002', 'tern-load-steps', '{}', 'ada', '2026-03-02 09:30:00+00:00', '', 0);
INSERT INTO schema_steps (id) VALUES ('0001-records'), ('0002-bench'), ('0003-judgements'), ('0004-line'), ('0005-releases'), ('0006-marks'), ('0007-latches');
INSERT INTO latches (bay, why, by, at) VALUES ('bay2', 'its run was stopped by ada', 'ada', '2026-03-02 09:31:00+00:00');
PRAGMA user_version = 12;
-- What had ended in the bay when a run was put in line: whether something failed since is told without the clock.
ALTER TABLE `waitings` ADD COLUMN `after` text;
INSERT INTO `schema_steps` VALUES ('0008-after');
-- Fast captures of runs: what is known of each, and the samples of its channels in blocks, with a pyramid above them.
CREATE TABLE `captures` (`run_id` text,`seq` integer,`data` text,PRIMARY KEY (`run_id`,`seq`));
CREATE TABLE `waves` (`run_id` text,`seq` integer,`channel` text,`level` integer,`first` integer,`data` blob,PRIMARY KEY (`run_id`,`seq`,`channel`,`level`,`first`));
INSERT INTO `schema_steps` VALUES ('0009-captures');
-- Parts of runs that somebody has named.
CREATE TABLE `excerpts` (`run_id` text,`name` text,`note` text,`from` real,`to` real,`by` text,`at` datetime,PRIMARY KEY (`run_id`,`name`));
INSERT INTO `schema_steps` VALUES ('0010-excerpts');
-- Units, lots, what a bay is set up for, and how far serial numbers have been given out.
CREATE TABLE `units` (`serial` text,`nameplate` text,`parts` text,`quarantine` text,`extra` integer,`by` text,`at` datetime,PRIMARY KEY (`serial`));
CREATE TABLE `lots` (`name` text,`nameplate` text,`quantity` integer,`closed` numeric,`note` text,`by` text,`at` datetime,PRIMARY KEY (`name`));
CREATE TABLE `places` (`bay` text,`data` text,PRIMARY KEY (`bay`));
CREATE TABLE `series` (`name` text,`last` integer,PRIMARY KEY (`name`));
-- How often a unit may still be put in anew after a run that finds an open contact, and which parts were in it.
ALTER TABLE `runs` ADD COLUMN `reseats_left` integer;
ALTER TABLE `runs` ADD COLUMN `parts` text;
CREATE INDEX `idx_runs_unit` ON `runs`(`serial`,`procedure`);
INSERT INTO `schema_steps` VALUES ('0011-production');
-- What the office has set, which revisions operators may run, and what is still to be sent to others.
CREATE TABLE `settings` (`name` text,`data` text,`by` text,`at` datetime,PRIMARY KEY (`name`));
ALTER TABLE `revisions` ADD COLUMN `released_by` text;
ALTER TABLE `revisions` ADD COLUMN `released_at` datetime;
ALTER TABLE `revisions` ADD COLUMN `released_why` text;
CREATE TABLE `outbox` (`id` integer PRIMARY KEY AUTOINCREMENT,`to` text,`run_id` text,`at` datetime,`tries` integer,`next` datetime,`error` text,`sent` datetime);
CREATE INDEX `idx_runs_ended_at` ON `runs`(`ended_at`);
CREATE UNIQUE INDEX `idx_outbox_message` ON `outbox`(`to`,`run_id`);
-- The figures of a run once more, as short text, for statistics over very many runs; empty in runs of before.
ALTER TABLE `runs` ADD COLUMN `results` text;
INSERT INTO `schema_steps` VALUES ('0012-office');
