ALTER INDEX "items_name_words" SET (gin_pending_list_limit = 32768);
