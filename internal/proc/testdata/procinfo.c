// Prints what macOS answers about some open files, in hexadecimal, one answer a line: the structures are those of
// bsd/sys/proc_info.h of xnu, whose layout any 64-bit C compiler gives them.
//
//	cc -o procinfo procinfo.c && ./procinfo > procinfo.hex
#include <arpa/inet.h>
#include <stdint.h>
#include <stdio.h>
#include <string.h>

struct proc_fdinfo { int32_t proc_fd; uint32_t proc_fdtype; };
struct proc_fileinfo {
	uint32_t fi_openflags, fi_status;
	int64_t fi_offset;
	int32_t fi_type;
	uint32_t fi_guardflags;
};
struct vinfo_stat {
	uint32_t vst_dev;
	uint16_t vst_mode, vst_nlink;
	uint64_t vst_ino;
	uint32_t vst_uid, vst_gid;
	int64_t vst_atime, vst_atimensec, vst_mtime, vst_mtimensec, vst_ctime, vst_ctimensec, vst_birthtime, vst_birthtimensec;
	int64_t vst_size, vst_blocks;
	int32_t vst_blksize;
	uint32_t vst_flags, vst_gen, vst_rdev;
	int64_t vst_qspare[2];
};
struct vnode_info { struct vinfo_stat vi_stat; int vi_type, vi_pad; int32_t vi_fsid[2]; };
struct vnode_info_path { struct vnode_info vip_vi; char vip_path[1024]; };
struct vnode_fdinfowithpath { struct proc_fileinfo pfi; struct vnode_info_path pvip; };
struct sockbuf_info { uint32_t sbi_cc, sbi_hiwat, sbi_mbcnt, sbi_mbmax, sbi_lowat; short sbi_flags, sbi_timeo; };
struct in4in6_addr { uint32_t i46a_pad32[3]; struct in_addr i46a_addr4; };
union insi_addr { struct in4in6_addr ina_46; struct in6_addr ina_6; };
struct in_sockinfo {
	int insi_fport, insi_lport;
	uint64_t insi_gencnt;
	uint32_t insi_flags, insi_flow;
	uint8_t insi_vflag, insi_ip_ttl;
	uint32_t rfu_1;
	union insi_addr insi_faddr, insi_laddr;
	struct { unsigned char in4_tos; } insi_v4;
	struct { uint8_t in6_hlim; int in6_cksum; unsigned short in6_ifindex; short in6_hops; } insi_v6;
};
struct tcp_sockinfo {
	struct in_sockinfo tcpsi_ini;
	int tcpsi_state, tcpsi_timer[4], tcpsi_mss;
	uint32_t tcpsi_flags, rfu_1;
	uint64_t tcpsi_tp;
};
struct mac_sockaddr_un { unsigned char sun_len, sun_family; char sun_path[104]; };
union un_addr { struct mac_sockaddr_un ua_sun; char ua_dummy[255]; };
struct un_sockinfo { uint64_t unsi_conn_so, unsi_conn_pcb; union un_addr unsi_addr, unsi_caddr; };
struct socket_info {
	struct vinfo_stat soi_stat;
	uint64_t soi_so, soi_pcb;
	int soi_type, soi_protocol, soi_family;
	short soi_options, soi_linger, soi_state, soi_qlen, soi_incqlen, soi_qlimit, soi_timeo;
	unsigned short soi_error;
	uint32_t soi_oobmark;
	struct sockbuf_info soi_rcv, soi_snd;
	int soi_kind;
	uint32_t rfu_1;
	union { struct in_sockinfo pri_in; struct tcp_sockinfo pri_tcp; struct un_sockinfo pri_un; } soi_proto;
};
struct socket_fdinfo { struct proc_fileinfo pfi; struct socket_info psi; };

static void print(const char *name, const void *p, size_t n) {
	printf("%s ", name);
	for (size_t i = 0; i < n; i++) printf("%02x", ((const unsigned char *)p)[i]);
	printf("\n");
}

static void set(union insi_addr *a, const char *text, int family) {
	if (family == 4) inet_pton(AF_INET, text, &a->ina_46.i46a_addr4);
	else inet_pton(AF_INET6, text, &a->ina_6);
}

// inet prints a socket: kind 1 is UDP, 2 is TCP; family 4, 6, or 46 for both.
static void inet(const char *name, int kind, int state, int family, const char *local, int lport, const char *remote, int rport) {
	struct socket_fdinfo s;
	memset(&s, 0, sizeof s);
	s.pfi.fi_openflags = 3;
	s.psi.soi_stat.vst_ino = 77;
	s.psi.soi_so = 0x1122334455667788;
	s.psi.soi_options = state == 1 ? 0x2 : 0;
	s.psi.soi_rcv.sbi_hiwat = 131072;
	s.psi.soi_kind = kind;
	struct in_sockinfo *in = &s.psi.soi_proto.pri_in;
	in->insi_lport = htons(lport);
	in->insi_fport = htons(rport);
	in->insi_vflag = family == 4 ? 1 : family == 6 ? 2 : 3;
	in->insi_ip_ttl = 64;
	set(&in->insi_laddr, local, family);
	set(&in->insi_faddr, remote, family);
	if (kind == 2) s.psi.soi_proto.pri_tcp.tcpsi_state = state;
	print(name, &s, sizeof s);
}

static void local(const char *name, const char *path, int listens) {
	struct socket_fdinfo s;
	memset(&s, 0, sizeof s);
	s.psi.soi_kind = 3;
	s.psi.soi_options = listens ? 0x2 : 0;
	s.psi.soi_proto.pri_un.unsi_addr.ua_sun.sun_len = 2 + strlen(path);
	s.psi.soi_proto.pri_un.unsi_addr.ua_sun.sun_family = 1;
	strcpy(s.psi.soi_proto.pri_un.unsi_addr.ua_sun.sun_path, path);
	strcpy(s.psi.soi_proto.pri_un.unsi_caddr.ua_sun.sun_path, "/the/other/end");
	print(name, &s, sizeof s);
}

static void file(const char *name, uint32_t device, uint64_t inode, const char *path) {
	struct vnode_fdinfowithpath v;
	memset(&v, 0, sizeof v);
	v.pvip.vip_vi.vi_stat.vst_dev = device;
	v.pvip.vip_vi.vi_stat.vst_mode = 0100600;
	v.pvip.vip_vi.vi_stat.vst_ino = inode;
	v.pvip.vip_vi.vi_type = 1;
	strcpy(v.pvip.vip_path, path);
	print(name, &v, sizeof v);
}

int main(void) {
	struct proc_fdinfo list[] = {{0, 1}, {3, 1}, {4, 5}, {7, 2}};
	print("list", list, sizeof list);
	file("null", 3, 300, "/dev/null");
	file("lock", 16777233, 8608421234, "/Users/keel/Library/dravit/stacks/f1/db.lock");
	file("removed", 16777233, 8608421235, "");
	inet("web", 2, 1, 4, "127.0.0.1", 8080, "0.0.0.0", 0);
	inet("everywhere", 2, 1, 46, "::", 3306, "::", 0);
	inet("every4", 2, 1, 4, "0.0.0.0", 5432, "0.0.0.0", 0);
	inet("web6", 2, 1, 6, "::1", 8080, "::", 0);
	inet("client", 2, 4, 4, "127.0.0.1", 50123, "127.0.0.1", 3306);
	inet("mapped", 2, 4, 6, "::ffff:127.0.0.1", 3306, "::ffff:127.0.0.1", 50123);
	inet("names", 1, 0, 4, "127.0.0.1", 5353, "0.0.0.0", 0);
	inet("query", 1, 0, 4, "127.0.0.1", 50200, "127.0.0.1", 53);
	local("socket", "/private/tmp/dravit-501/f1/db.sock", 1);
	local("talk", "/private/tmp/dravit-501/f1/db.sock", 0);
	return 0;
}
