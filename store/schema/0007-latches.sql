-- What holds a bay, or the whole house (no bay), until a person says go on.
CREATE TABLE `latches` (`bay` text,`why` text,`by` text,`at` datetime,PRIMARY KEY (`bay`));
-- What waits for a unit whose run failed is set aside, and other units go on.
ALTER TABLE `waitings` ADD COLUMN `set_aside` numeric;
-- Each entry of the journal seals those before it.
ALTER TABLE `journal_entries` ADD COLUMN `hash` text;
-- Who may no longer sign in, and what is known of the tokens that were given out.
ALTER TABLE `accounts` ADD COLUMN `disabled` numeric;
ALTER TABLE `tokens` ADD COLUMN `issued_at` datetime;
ALTER TABLE `tokens` ADD COLUMN `label` text;
