-- Units, lots, what a bay is set up for, and how far serial numbers have been given out.
CREATE TABLE `units` (`serial` text,`nameplate` text,`parts` text,`quarantine` text,`extra` integer,`by` text,`at` datetime,PRIMARY KEY (`serial`));
CREATE TABLE `lots` (`name` text,`nameplate` text,`quantity` integer,`closed` numeric,`note` text,`by` text,`at` datetime,PRIMARY KEY (`name`));
CREATE TABLE `places` (`bay` text,`data` text,PRIMARY KEY (`bay`));
CREATE TABLE `series` (`name` text,`last` integer,PRIMARY KEY (`name`));
-- How often a unit may still be put in anew after a run that finds an open contact, and which parts were in it.
ALTER TABLE `runs` ADD COLUMN `reseats_left` integer;
ALTER TABLE `runs` ADD COLUMN `parts` text;
CREATE INDEX `idx_runs_unit` ON `runs`(`serial`,`procedure`);
