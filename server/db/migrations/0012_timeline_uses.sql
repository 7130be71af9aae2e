ALTER TABLE `timelines` ADD `uses` int DEFAULT 0 NOT NULL;--> statement-breakpoint
UPDATE `timelines` `t` SET `uses` = (SELECT COUNT(*) FROM `uses` `u` WHERE `u`.`timeline_id` = `t`.`id`);
