import { wordForms } from './wordForms.js';

/**
 * Everyday forms of given names, each line one name: the full form first. English, German, French, Dutch, Spanish and
 * Italian.
 */
const lines = `
abigail abby gail
alexander alex alec sandy sascha xander alejandro alessandro
alexandra alex sandra sascha alessandra
alfred alf alfie fred
alison ali
amanda mandy
andrew andy drew andreas andre andrea
anthony tony antony anton antoine antonio toni
barbara barb babs
benjamin ben benny
bernard bernie bernd bernhard
catherine cathy kate katie kathy kathryn katherine catharine cath kit katharina karin catalina caterina trijntje
charles charlie chuck karl carl carlos carlo
charlotte lottie charley
christina chris tina christine kristina
christopher chris kit christoph
daniel dan danny
david dave davey
deborah deb debbie
dominic dom dominique
donald don donnie
dorothy dot dolly dorothea
edward ed eddie ted teddy ned eduard edouard eduardo
eleanor ellie nell nora
elizabeth liz beth betty lizzie eliza elisabeth elspeth lisa elsa lieselotte bettina isabel isabella
emily em emmy
emma em
ernest ernie ernst
eugene gene
florence flo florrie
frances fran fanny franziska francesca
francis frank franz francois francisco francesco
frederick fred freddie freddy friedrich fritz frederik
gabriel gabe
geoffrey geoff jeff jeffrey
george georg georges jorge giorgio joris
gerald gerry jerry gerhard gerard
gertrude trudy gerti
gregory greg gregor
harold harry
helen nell helena helene elena
henry harry hal hank heinrich henri henrik hendrik enrico enrique heinz
isabella bella izzy isabelle
jacob jake jakob jacques
jacqueline jackie
james jim jimmy jamie jem
janet jan
jennifer jen jenny
jessica jess jessie
joanna jo joanne johanna giovanna
john jack johnny jon johann johannes hans jean juan giovanni jan ian
jonathan jon jonny
joseph joe joey josef jose giuseppe sepp
joshua josh
judith judy
julia julie jules giulia
katherine kate kathy
kenneth ken kenny
lawrence larry laurie lorenz laurent lorenzo
leonard len lenny leonhard leonardo
louis lou lewis ludwig luis luigi
louise lou luise luisa
lucy lucia lucie luzia
madeleine maddy madeline
margaret maggie meg peggy marge margie rita greta margarete marguerite margarita margherita gretchen
maria mary marie mia molly polly mitzi maren
mark marc markus marcus marco marcos
martha marty patty
martin marty martino
matthew matt matthias mathieu mateo matteo
maximilian max
megan meg
melissa mel missy
michael mike mick mickey michel miguel michele michiel
nancy nan
natalie nat natalia
nathaniel nat nathan nate
nicholas nick nicky nikolaus nicolas klaus niklas nicola nico
nicole nicky nicola
oliver ollie olivier
olivia liv livvy
pamela pam
patricia pat patty trish tricia
patrick pat paddy patrice
paul pablo paolo pavel
peter pete pierre pedro pietro pieter
philip phil pip philipp philippe felipe
rachel rae rachael
raymond ray
rebecca becky becca rebekka
richard rick dick rich richie ricardo riccardo
robert rob bob bobby robbie bert roberto rupert
roderick rod rory
ronald ron ronnie
rosemary rose rosie
rudolf rudi rudolph
russell russ
samantha sam sammy
samuel sam sammy
sarah sally sadie sara
sebastian seb basti bastian
sophie sophia sofia
stanley stan
stephanie steph steffi stefanie
stephen steve steven stephan stefan etienne esteban stefano
susan sue susie suzanne susanne susanna sanne
sylvia silvia
terence terry terrence
theodore theo ted teddy theodor
theresa terry tess tessa teresa therese resi
thomas tom tommy tomas tommaso
timothy tim
ursula ulla uschi
valentine val valentin
victoria vicky vic viktoria
vincent vince vinny vinzenz
virginia ginny
walter walt wally
wilhelmina mina minna
william will bill billy willy liam wilhelm guillaume willem guillermo guglielmo
zachary zach zack
`;

/** The full form of each everyday form. A form of several names stands for the first of them. */
export const fullNameOf = wordForms(lines);
