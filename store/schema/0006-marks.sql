-- A mark says what it is about in a form for programs, beside its label for people.
ALTER TABLE `marks` ADD COLUMN `about` text;
