-- Fast captures of runs: what is known of each, and the samples of its channels in blocks, with a pyramid above them.
CREATE TABLE `captures` (`run_id` text,`seq` integer,`data` text,PRIMARY KEY (`run_id`,`seq`));
CREATE TABLE `waves` (`run_id` text,`seq` integer,`channel` text,`level` integer,`first` integer,`data` blob,PRIMARY KEY (`run_id`,`seq`,`channel`,`level`,`first`));
