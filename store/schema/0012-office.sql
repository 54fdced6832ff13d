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
