CREATE TABLE `alerts` (
	`decision` varchar(400) NOT NULL,
	`since` datetime(3) NOT NULL,
	`ended_at` datetime(3),
	CONSTRAINT `alerts_decision` PRIMARY KEY(`decision`)
);
--> statement-breakpoint
CREATE TABLE `messages` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`by` enum('mail','webhook') NOT NULL,
	`kind` enum('morning','alert','event','test') NOT NULL,
	`about` varchar(450) NOT NULL,
	`subject` varchar(500) NOT NULL,
	`body` mediumtext NOT NULL,
	`made_at` datetime(3) NOT NULL,
	`due_at` datetime(3) NOT NULL,
	`tries` int NOT NULL DEFAULT 0,
	`sent_at` datetime(3),
	`gave_up_at` datetime(3),
	`trouble` varchar(500),
	CONSTRAINT `messages_id` PRIMARY KEY(`id`),
	CONSTRAINT `messages_about` UNIQUE(`by`,`about`)
);
--> statement-breakpoint
CREATE INDEX `messages_due` ON `messages` (`sent_at`,`gave_up_at`,`due_at`);