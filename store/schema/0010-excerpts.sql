-- Parts of runs that somebody has named.
CREATE TABLE `excerpts` (`run_id` text,`name` text,`note` text,`from` real,`to` real,`by` text,`at` datetime,PRIMARY KEY (`run_id`,`name`));
