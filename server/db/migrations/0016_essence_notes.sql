ALTER TABLE `essence` ADD `note` varchar(500);--> statement-breakpoint
UPDATE `essence` SET `read_modified_us` = 0;
