-- Pictures and files joined to runs at an instant; the contents apart, so that a list need not read them.
CREATE TABLE `attachments` (`run_id` text,`number` integer,`data` text,`dropped` text,PRIMARY KEY (`run_id`,`number`));
CREATE TABLE `attachment_contents` (`run_id` text,`number` integer,`content` blob,`small` blob,PRIMARY KEY (`run_id`,`number`));
