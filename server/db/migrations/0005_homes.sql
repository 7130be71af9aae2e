CREATE TABLE `homes` (
	`project_id` bigint NOT NULL,
	`kind` enum('source','proxy','render','cache','audio','document','backup','library','delivery','other') NOT NULL,
	`volume_id` bigint NOT NULL,
	`folder` varchar(4096) NOT NULL,
	CONSTRAINT `homes_project_id_kind_pk` PRIMARY KEY(`project_id`,`kind`)
);
--> statement-breakpoint
ALTER TABLE `receipts` MODIFY COLUMN `action` enum('caches removed','originals removed','archive sealed','project restored','work ended early','volume added','volume changed','volume retired','carrier added','state changed','home changed') NOT NULL;