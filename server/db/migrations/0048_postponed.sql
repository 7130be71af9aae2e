CREATE TABLE `postponed` (
	`decision` varchar(400) NOT NULL,
	`what` varchar(500) NOT NULL,
	`until` datetime(3) NOT NULL,
	`reason` varchar(300) NOT NULL,
	`who` varchar(120) NOT NULL,
	CONSTRAINT `postponed_decision` PRIMARY KEY(`decision`)
);
