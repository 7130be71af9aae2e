CREATE TABLE `job_questions` (
	`id` bigint AUTO_INCREMENT NOT NULL,
	`job_id` bigint NOT NULL,
	`file_id` bigint NOT NULL,
	`path` varchar(4096) NOT NULL,
	`size_bytes` bigint NOT NULL,
	`reason` varchar(40) NOT NULL,
	`asked_at` datetime(3) NOT NULL,
	`answer` enum('leave out','try again'),
	`who` varchar(120),
	`answered_at` datetime(3),
	CONSTRAINT `job_questions_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE INDEX `job_questions_job` ON `job_questions` (`job_id`,`answer`);