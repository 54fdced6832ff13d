-- What had ended in the bay when a run was put in line: whether something failed since is told without the clock.
ALTER TABLE `waitings` ADD COLUMN `after` text;
