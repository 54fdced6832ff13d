-- That a unit in line is in place is known after a restart too.
ALTER TABLE `waitings` ADD COLUMN `released` numeric;
ALTER TABLE `waitings` ADD COLUMN `asks` text;
ALTER TABLE `waitings` ADD COLUMN `vouched` text;
