--
-- PostgreSQL database dump
--

SET standard_conforming_strings = on;

CREATE TABLE public.crossings (
    id integer NOT NULL,
    details jsonb NOT NULL,
    links text[]
);

ALTER TABLE public.crossings OWNER TO somebody;

COPY public.crossings (id, details, links) FROM stdin;
1	{"to": "Depot", "from": "Saltmarsh", "page": "http://localhost:8080/timetable/crossings/1"}	{http://localhost:8080/timetable/map,http://localhost:9200/search}
2	{"to": "Saltmarsh", "from": "Depot", "page": "http://localhost:8080/timetable/crossings/2"}	\N
\.

ALTER TABLE ONLY public.crossings ADD CONSTRAINT crossings_pkey PRIMARY KEY (id);
