-- What the tables alone do not say: numbers for folders, and a ledger that nothing changes later.
CREATE SEQUENCE folder_ids START WITH 1 INCREMENT BY 1000 CACHE 1;
--> statement-breakpoint
CREATE TRIGGER receipts_are_not_changed BEFORE UPDATE ON receipts FOR EACH ROW
  SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'A receipt is never changed.';
--> statement-breakpoint
CREATE TRIGGER receipts_are_not_removed BEFORE DELETE ON receipts FOR EACH ROW
  SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'A receipt is never removed.';
